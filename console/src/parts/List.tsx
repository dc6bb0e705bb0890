import { TableOutlined } from "@ant-design/icons";
import { Button, Checkbox, Input, Popover, Select, Table, type TableColumnsType } from "antd";
import { useDeferredValue, useEffect, useMemo, useState, type ReactNode } from "react";
import { nothing } from "./Page";
import { useAddress } from "./search";
import { useSettled } from "./useSettled";

export interface Column<T> {
  key: string;
  title: string;
  width: number;
  align?: "right";
  compare?: (a: T, b: T) => number;
  render: (row: T) => ReactNode;
  /** It is shown only where it is chosen. */
  extra?: boolean;
}

export interface Filter<T> {
  key: string;
  any: string; // what it says while nothing is chosen
  of: (row: T) => readonly string[];
}

/** Plain comparison of texts: what people name is in Latin letters, and thousands of rows are compared at each key. */
export const byText = (a: string, b: string) => (a < b ? -1 : a > b ? 1 : 0);

/** fitting are the rows that have one of what is chosen of each filter, and the words in one of their texts; ordered. */
export function fitting<T>(rows: readonly T[], of: { words: string; texts: (row: T) => readonly string[]; chosen: readonly { of: Filter<T>["of"]; values: readonly string[] }[]; compare?: (a: T, b: T) => number; down: boolean }): T[] {
  const words = of.words.trim().toLowerCase();
  const kept = rows.filter((r) => of.chosen.every((c) => c.values.length === 0 || c.of(r).some((v) => c.values.includes(v))) && (!words || of.texts(r).some((t) => t.toLowerCase().includes(words))));
  const { compare } = of;
  return compare ? kept.sort((a, b) => (of.down ? compare(b, a) : compare(a, b))) : kept;
}

/** counted are the values of a filter in rows, with how many have each; the most frequent first. */
export function counted<T>(rows: readonly T[], of: Filter<T>["of"]): [string, number][] {
  const n = new Map<string, number>();
  for (const r of rows) for (const v of of(r)) if (v) n.set(v, (n.get(v) ?? 0) + 1);
  return [...n].sort((a, b) => b[1] - a[1] || byText(a[0], b[0]));
}

const parted = (text: string | undefined) => (text ? text.split(",").filter(Boolean) : []);

/**
 * A list that can be of thousands: found in, filtered, ordered, with columns of choice, all of
 * which is the page's address; and chosen from, where somebody asks what is chosen.
 */
export function List<T extends { id: string }>({ rows, columns, filters, texts, usual, find, loading, empty, chosen, head }: {
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
  const [words, setWords] = useState(get("find") ?? "");
  const settled = useSettled(words);
  const said = get("find") ?? "";
  useEffect(() => {
    if (settled !== said) set({ find: settled });
  }, [settled]); // eslint-disable-line react-hooks/exhaustive-deps -- only what is typed changes it
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const looked = useDeferredValue(words);
  const sort = get("sort") ?? usual;
  const order = sort.replace(/^-/, "");
  const choices = filters.map((f) => get(f.key) ?? "").join(";");
  const shown = useMemo(
    () =>
      fitting(rows, {
        words: looked,
        texts,
        chosen: filters.map((f) => ({ of: f.of, values: parted(get(f.key)) })),
        compare: columns.find((c) => c.key === order)?.compare,
        down: sort.startsWith("-"),
      }),
    [rows, looked, choices, sort], // eslint-disable-line react-hooks/exhaustive-deps -- what is of the address is in choices; the rest does not change
  );
  const wanted = parted(get("columns"));
  const visible = columns.filter((c) => (wanted.length ? wanted.includes(c.key) : !c.extra));
  const table: TableColumnsType<T> = visible.map((c) => ({
    key: c.key,
    title: c.title,
    width: c.width,
    align: c.align,
    ellipsis: true,
    className: c.align === "right" ? "number" : undefined,
    sorter: Boolean(c.compare),
    sortOrder: order === c.key ? (sort.startsWith("-") ? "descend" : "ascend") : null,
    render: (_: unknown, row: T) => c.render(row),
  }));
  const of = shown.filter((r) => picked.has(r.id));
  const forget = () => setPicked(new Set());
  return (
    <>
      <div className="list-head">
        <Input allowClear placeholder={find} aria-label="Find" style={{ width: 230 }} value={words} onChange={(e) => setWords(e.target.value)} />
        {filters.map((f) => (
          <Choice key={f.key} of={f} rows={rows} value={parted(get(f.key))} onChange={(v) => set({ [f.key]: v.join(",") })} />
        ))}
        <Popover
          trigger="click"
          placement="bottomRight"
          content={<Checkbox.Group className="column-choice" options={columns.map((c) => ({ value: c.key, label: c.title || c.key }))} value={visible.map((c) => c.key)} onChange={(v) => set({ columns: v.length ? columns.map((c) => c.key).filter((k) => v.includes(k)).join(",") : undefined })} />}
        >
          <Button icon={<TableOutlined />} aria-label="Columns" title="Columns" />
        </Popover>
        {head?.(shown)}
        {chosen && of.length > 0 && (
          <span className="choice" data-chosen={of.length}>
            <span className="number">
              {of.length} chosen of {shown.length} that fit
            </span>
            {of.length < shown.length && (
              <Button size="small" type="link" onClick={() => setPicked(new Set(shown.map((r) => r.id)))}>
                Choose all that fit
              </Button>
            )}
            <Button size="small" type="link" onClick={forget}>
              None
            </Button>
            {chosen(of, forget)}
          </span>
        )}
      </div>
      <Table<T>
        rowKey="id"
        size="small"
        virtual
        scroll={{ x: visible.reduce((sum, c) => sum + c.width, chosen ? 36 : 0), y: Math.max(320, window.innerHeight - 215) }}
        loading={loading}
        columns={table}
        dataSource={shown}
        pagination={false}
        showSorterTooltip={false}
        rowSelection={chosen ? { selectedRowKeys: of.map((r) => r.id), onChange: (keys) => setPicked(new Set(keys.map(String))), columnWidth: 36 } : undefined}
        onChange={(_, __, s) => {
          const one = Array.isArray(s) ? s[0] : s;
          set({ sort: one?.order ? (one.order === "descend" ? "-" : "") + String(one.columnKey) : undefined });
        }}
        locale={nothing(rows.length ? "Nothing fits what you look for." : empty)}
      />
    </>
  );
}

/** One filter: any of its values may be chosen, and each says how many have it. */
function Choice<T>({ of: f, rows, value, onChange }: { of: Filter<T>; rows: readonly T[]; value: string[]; onChange: (values: string[]) => void }) {
  const options = useMemo(() => counted(rows, f.of), [rows]); // eslint-disable-line react-hooks/exhaustive-deps -- a filter does not change
  if (options.length < 2 && value.length === 0) return null;
  return (
    <Select
      mode="multiple"
      allowClear
      maxTagCount="responsive"
      placeholder={f.any}
      aria-label={f.key}
      style={{ minWidth: 135, maxWidth: 240 }}
      popupMatchSelectWidth={false}
      value={value}
      options={options.map(([v, n]) => ({ value: v, label: `${v} (${n})` }))}
      labelRender={(l) => String(l.value)}
      onChange={onChange}
    />
  );
}
