import { TableOutlined } from "@ant-design/icons";
import { Button, Checkbox, Input, Popover, Select } from "antd";
import { memo, useDeferredValue, useEffect, useMemo, useState, useTransition, type ReactNode } from "react";
import { counted, fitting, ordered, type Filter } from "./fitting";
import { Rows, type Column } from "./Rows";
import { useAddress } from "./search";
import { useSettled } from "./useSettled";
import * as say from "words/parts/List";

export type { Column } from "./Rows";

const nothing: [string, number][] = [];

const parted = (text: string | undefined) => (text ? text.split(",").filter(Boolean) : []);

/**
 * A list that can be of thousands: found in, filtered, ordered, with columns of choice, all of
 * which is the page's address; and chosen from, where somebody asks what is chosen.
 */
export function List<T extends { id: string }>({
  rows,
  columns,
  filters,
  texts,
  usual,
  find,
  loading,
  empty,
  chosen,
  head,
}: {
  rows: readonly T[];
  columns: readonly Column<T>[];
  filters: readonly Filter<T>[];
  texts: (row: T) => readonly string[];
  usual: string; // the order, like -at
  find: string; // what is said where nothing is looked for
  loading?: boolean;
  empty: string;
  /** What is done with those that are chosen: it gets them, and what forgets the choice. */
  chosen?: (rows: T[], forget: () => void) => ReactNode;
  head?: (shown: T[]) => ReactNode;
}) {
  const [get, set] = useAddress();
  const said = get("find") ?? "";
  const [words, setWords] = useState(said);
  const [, typed] = useTransition();
  const settled = useSettled(words);
  const [heard, setHeard] = useState(said);
  const [begun, setBegun] = useState(0);
  if (said !== heard) {
    // the address was changed by others: a view, a link
    setHeard(said);
    if (said !== settled) {
      setWords(said);
      setBegun(begun + 1);
    }
  }
  useEffect(() => {
    if (settled !== said) set({ find: settled });
  }, [settled]); // eslint-disable-line react-hooks/exhaustive-deps -- only what is typed changes it
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const sort = get("sort") ?? usual;
  const choices = filters.map((f) => get(f.key) ?? "").join(";");
  const inOrder = useMemo(() => ordered(rows, columns.find((c) => c.key === sort.replace(/^-/, ""))?.compare, sort.startsWith("-")), [rows, columns, sort]);
  const shown = useMemo(
    () => fitting(inOrder, { words, texts, chosen: filters.map((f) => ({ of: f.of, values: parted(get(f.key)) })) }),
    [inOrder, words, choices], // eslint-disable-line react-hooks/exhaustive-deps -- what is of the address is in choices; the rest does not change
  );
  const wanted = get("columns") ?? "";
  const visible = useMemo(() => {
    const those = parted(wanted);
    return columns.filter((c) => !c.title || (those.length ? those.includes(c.key) : !c.extra)); // what has no title is no choice
  }, [columns, wanted]);
  const countedOf = useDeferredValue(rows);
  const options = useMemo(() => filters.map((f) => counted(countedOf, f.of)), [filters, countedOf]);
  const of = useMemo(() => (picked.size === 0 ? [] : shown.filter((r) => picked.has(r.id))), [shown, picked]);
  const forget = () => setPicked(new Set());
  return (
    <>
      <div className="find-head">
        <Find key={begun} placeholder={find} begin={words} onChange={(w) => typed(() => setWords(w))} />
        {filters.map((f, i) => (
          <Choice key={f.key} name={f.key} any={f.any} options={options[i] ?? nothing} value={get(f.key) ?? ""} set={set} />
        ))}
        <Popover
          trigger="click"
          placement="bottomRight"
          content={
            <Checkbox.Group
              className="column-choice"
              options={columns.filter((c) => c.title).map((c) => ({ value: c.key, label: c.title }))}
              value={visible.map((c) => c.key)}
              onChange={(v) =>
                set({
                  columns: v.length
                    ? columns
                        .map((c) => c.key)
                        .filter((k) => v.includes(k))
                        .join(",")
                    : undefined,
                })
              }
            />
          }
        >
          <Button icon={<TableOutlined />} aria-label={say.columns()} title={say.columns()} />
        </Popover>
        {head?.(shown)}
        {chosen && of.length > 0 && (
          <span className="choice" data-chosen={of.length}>
            <span className="number">{say.chosenOfThatFit(of.length, shown.length)}</span>
            {of.length < shown.length && (
              <Button size="small" type="link" onClick={() => setPicked(new Set(shown.map((r) => r.id)))}>
                {say.chooseAllThatFit()}
              </Button>
            )}
            <Button size="small" type="link" onClick={forget}>
              {say.none()}
            </Button>
            {chosen(of, forget)}
          </span>
        )}
      </div>
      <Rows rows={shown} columns={visible} sort={sort} onSort={(s) => set({ sort: s === usual ? undefined : s })} picked={chosen && picked} onPicked={setPicked} loading={loading} empty={rows.length ? say.nothingFitsWhatYou() : empty} height={Math.max(320, window.innerHeight - 175)} label={say.whatWasFound()} />
    </>
  );
}

/** What is typed stands there at once, however long it takes to find it. */
function Find({ placeholder, begin, onChange }: { placeholder: string; begin: string; onChange: (words: string) => void }) {
  const [words, setWords] = useState(begin);
  return (
    <Input
      allowClear
      placeholder={placeholder}
      aria-label={say.find()}
      style={{ width: 230 }}
      value={words}
      onChange={(e) => {
        setWords(e.target.value);
        onChange(e.target.value);
      }}
    />
  );
}

/** One filter: any of its values may be chosen, and each says how many have it. */
const Choice = memo(function Choice({ name, any, options, value, set }: { name: string; any: string; options: readonly [string, number][]; value: string; set: (changes: Record<string, string | undefined>) => void }) {
  const chosen = parted(value);
  if (options.length < 2 && chosen.length === 0) return null;
  return (
    <Select
      mode="multiple"
      allowClear
      maxTagCount={0}
      maxTagPlaceholder={(of) => of.map((v) => String(v.value)).join(", ")}
      placeholder={any}
      aria-label={any}
      style={{ minWidth: chosen.length ? 170 : 125, maxWidth: 260 }}
      popupMatchSelectWidth={false}
      value={chosen}
      options={options.map(([v, n]) => ({ value: v, label: `${v} (${n})` }))}
      onChange={(v: string[]) => set({ [name]: v.join(",") })}
    />
  );
});
