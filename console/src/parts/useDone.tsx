import { useQueryClient } from "@tanstack/react-query";
import { App } from "antd";
import { ProblemNote } from "./ProblemNote";
import * as say from "words/parts/useDone";

/** useDone gives what mutations do at their end: read again what they changed, and tell what went wrong. */
export function useDone(...keys: string[]) {
  const queries = useQueryClient();
  const { modal } = App.useApp();
  return {
    onSettled: () => queries.invalidateQueries({ predicate: (q) => keys.includes(String(q.queryKey[0])) }),
    onError: (e: Error) => void modal.error({ title: say.thisWasNotDone(), content: <ProblemNote error={e} />, width: 640 }),
  };
}
