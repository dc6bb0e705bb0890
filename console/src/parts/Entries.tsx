import { useInfiniteQuery } from "@tanstack/react-query";
import { Button, Table, type TableColumnsType } from "antd";
import { Link } from "react-router";
import type { JournalEntry } from "../api/client";
import { journal, type JournalQuery } from "../service/journal";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { utc, when } from "words/times";
import * as say from "words/parts/Entries";

/** The journal's entries that fit, the newest first, and the older ones as they are asked for. */
export function Entries({ of, exact = false, tall = false }: { of: JournalQuery; exact?: boolean; tall?: boolean }) {
  const list = useInfiniteQuery(journal(of));
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  const narrow = !tall;
  const columns: TableColumnsType<JournalEntry> = [
    { title: say.no(), dataIndex: "number", align: "right", width: 80, className: "number" },
    { title: exact ? say.timeUtc() : say.time(), width: exact ? 215 : 120, className: "number nowrap", render: (_, e) => <span title={utc(e.at)}>{exact ? utc(e.at) : when(e.at)}</span> },
    { title: say.what(), width: 190, render: (_, e) => wordsOf(e.kind) },
    ...(narrow ? [] : [{ title: say.of(), width: 190, render: (_: unknown, e: JournalEntry) => <Subject of={e} /> }]),
    { title: say.by(), width: 110, render: (_, e) => (e.actor === "service" ? e.actor_name : e.actor_name && <Link to={`/journal?person=${encodeURIComponent(e.actor_name)}`}>{e.actor_name}</Link>) },
    { title: say.details(), width: 420, render: (_, e) => <span className="details">{details(e.data)}</span> },
  ];
  return (
    <>
      <ProblemNote error={list.error} />
      <Table<JournalEntry> size="small" rowKey="number" virtual scroll={{ x: narrow ? 700 : 1100, y: tall ? Math.max(320, window.innerHeight - 240) : 420 }} pagination={false} loading={list.isPending} dataSource={rows} columns={columns} locale={nothing(say.nothingIsWrittenThat())} />
      {rows.length > 0 && (
        <div className="facts-line">
          <span className="quiet number">{say.shownBackTo(rows.length, when(rows.at(-1)?.at ?? ""))}</span>
          {list.hasNextPage ? (
            <Button size="small" loading={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
              {say.olderOnes()}
            </Button>
          ) : (
            <span className="quiet">{say.thereAreNoOlder()}</span>
          )}
        </div>
      )}
    </>
  );
}

/** What an entry is of, with the way to its page. */
function Subject({ of: e }: { of: JournalEntry }) {
  const owner = e.owner_name && <Link to={`/journal?person=${encodeURIComponent(e.owner_name)}`}>{e.owner_name}</Link>;
  if (!e.subject_name) return owner;
  const to = e.kind.startsWith("workspace.") && e.owner_name ? `/workspaces/${e.subject_name}.${e.owner_name}` : /^(repository\.|prebuild\.plan-)/.test(e.kind) && !e.subject_name.includes(", removed ") ? `/repositories/${encodeURIComponent(e.subject_name)}` : undefined;
  return (
    <>
      {to ? <Link to={to}>{e.subject_name}</Link> : e.subject_name}
      {owner && e.owner_name !== e.subject_name && say.ofOfOwner(owner)}
    </>
  );
}

/** A kind in words; the first says what it is of, which the entry shows by itself. */
export function wordsOf(kind: string): string {
  const [of = "", what = ""] = kind.split(".", 2);
  return `${of.replaceAll("-", " ")}: ${what.replaceAll("-", " ")}`;
}

/** What an entry holds, as words; what is empty says nothing, and commits are short. */
export function details(data: Record<string, unknown>): string {
  return Object.entries(data)
    .filter(([, v]) => v !== "" && v !== null && v !== false)
    .map(
      ([k, v]) =>
        `${k.replaceAll("_", " ")} ${
          typeof v === "string"
            ? v.replace(/^([0-9a-f]{10})[0-9a-f]{30}$/, "$1")
            : k === "secrets" && v && typeof v === "object"
              ? Object.entries(v)
                  .map(([name, version]) => say.nameAndVersion(name, Number(version)))
                  .join(", ")
              : JSON.stringify(v)
        }`,
    )
    .join(", ");
}
