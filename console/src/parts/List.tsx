import { TableOutlined } from "@ant-design/icons";
import { Button, Checkbox, Input, Popover, Select, Table, type TableColumnsType } from "antd";
import { useDeferredValue, useEffect, useMemo, useRef, useState, type ReactNode } from "react";
import { counted, fitting, type Filter } from "./fitting";
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

const cell = () => ({ role: "cell" });

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
  const [heard, setHeard] = useState(said);
  if (said !== heard) { // the address was changed by others: a view, a link
    setHeard(said);
    if (said !== settled) setWords(said);
  }
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
  const visible = columns.filter((c) => !c.title || (wanted.length ? wanted.includes(c.key) : !c.extra)); // what has no title is no choice
  const table: TableColumnsType<T> = visible.map((c) => ({
    key: c.key,
    title: c.title,
    width: c.width,
    align: c.align,
    ellipsis: true,
    className: c.align === "right" ? "number" : undefined,
    onCell: cell,
    sorter: Boolean(c.compare),
    sortOrder: order === c.key ? (sort.startsWith("-") ? "descend" : "ascend") : null,
    render: (_: unknown, row: T) => c.render(row),
  }));
  const place = useRef<HTMLDivElement>(null);
  // What is painted of many rows is no table by itself: who listens is told so, and how many there are.
  useEffect(() => {
    const body = place.current?.querySelector(".ant-table-tbody-virtual");
    body?.setAttribute("role", "table");
    body?.setAttribute("aria-label", "What was found");
    body?.setAttribute("aria-rowcount", String(shown.length));
  });
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
          content={<Checkbox.Group className="column-choice" options={columns.filter((c) => c.title).map((c) => ({ value: c.key, label: c.title }))} value={visible.map((c) => c.key)} onChange={(v) => set({ columns: v.length ? columns.map((c) => c.key).filter((k) => v.includes(k)).join(",") : undefined })} />}
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
      <div ref={place}>
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
          rowSelection={chosen ? { selectedRowKeys: of.map((r) => r.id), onChange: (keys) => setPicked(new Set(keys.map(String))), columnWidth: 36, onCell: cell } : undefined}
          onChange={(_, __, s) => {
            const one = Array.isArray(s) ? s[0] : s;
            set({ sort: one?.order ? (one.order === "descend" ? "-" : "") + String(one.columnKey) : undefined });
          }}
          onRow={(_, at) => ({ role: "row", "aria-rowindex": (at ?? 0) + 1 })}
          locale={nothing(rows.length ? "Nothing fits what you look for." : empty)}
        />
      </div>
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
      maxTagCount={0}
      maxTagPlaceholder={(of) => of.map((v) => String(v.value)).join(", ")}
      placeholder={f.any}
      aria-label={f.any}
      style={{ minWidth: value.length ? 170 : 125, maxWidth: 260 }}
      popupMatchSelectWidth={false}
      value={value}
      options={options.map(([v, n]) => ({ value: v, label: `${v} (${n})` }))}
      onChange={onChange}
    />
  );
}
