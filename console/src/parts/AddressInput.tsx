import { useQueries, useQuery } from "@tanstack/react-query";
import { AutoComplete, Input } from "antd";
import { gitHosts, hosted } from "../service/githosts";
import * as say from "words/parts/AddressInput";

/** The address of a repository, offered from what git hosts let one read. It is a field of a form. */
export function AddressInput(field: { value?: string; onChange?: (v: string) => void; id?: string }) {
  const hosts = useQuery(gitHosts);
  // One that somebody is not connected with offers nothing.
  const lists = useQueries({ queries: (hosts.data ?? []).filter((h) => h.repositories).map((h) => hosted(h.host)) });
  const offered = lists.flatMap((l) => l.data ?? []).filter((r) => !r.registered);
  return (
    <AutoComplete id={field.id} value={field.value} onChange={field.onChange} autoFocus options={offered.map((r) => ({ value: r.url }))} showSearch={{ filterOption: (typed, o) => !!o?.value.includes(typed) }}>
      <Input spellCheck={false} placeholder={say.likeThis()} />
    </AutoComplete>
  );
}
