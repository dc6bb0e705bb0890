import { CaretDownOutlined, CaretUpOutlined } from "@ant-design/icons";
import { useVirtualizer } from "@tanstack/react-virtual";
import { Empty, Spin } from "antd";
import { memo, useCallback, useMemo, useRef, type CSSProperties, type ReactNode } from "react";
import * as say from "words/parts/Rows";

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

const rowPixels = 39;

/**
 * Rows paints a table of thousands: what is seen of it alone, and of that what changed. antd's own
 * table goes through every row at each change, which takes half a second with ten thousand.
 */
export function Rows<T extends { id: string }>({
  rows,
  columns,
  sort,
  onSort,
  picked,
  onPicked,
  loading,
  empty,
  height,
  label,
}: {
  rows: readonly T[];
  columns: readonly Column<T>[];
  sort: string; // like -at
  onSort: (sort: string) => void;
  /** Those that are chosen, where any may be. */
  picked?: ReadonlySet<string>;
  onPicked: (change: (before: ReadonlySet<string>) => ReadonlySet<string>) => void;
  loading?: boolean;
  empty: string;
  height: number;
  label: string;
}) {
  const place = useRef<HTMLDivElement>(null);
  // eslint-disable-next-line react-hooks/incompatible-library -- what it gives is not handed on
  const seen = useVirtualizer({ count: rows.length, getScrollElement: () => place.current, estimateSize: () => rowPixels, overscan: 2 });
  const choosing = picked !== undefined;
  const grid = useMemo<CSSProperties>(() => ({ gridTemplateColumns: [...(choosing ? ["36px"] : []), ...columns.map((c) => `minmax(${c.width}px, ${c.width}fr)`)].join(" "), minWidth: columns.reduce((sum, c) => sum + c.width, choosing ? 36 : 0) }), [columns, choosing]);
  const pick = useCallback((id: string, is: boolean) => onPicked((before) => (is ? new Set([...before, id]) : new Set([...before].filter((p) => p !== id)))), [onPicked]);
  const chosen = choosing ? rows.reduce((n, r) => n + Number(picked.has(r.id)), 0) : 0;
  const order = sort.replace(/^-/, "");
  const down = sort.startsWith("-");
  return (
    <div className="many" role="table" aria-label={label} aria-rowcount={rows.length + 1} aria-busy={loading} ref={place} style={{ maxHeight: height }} tabIndex={0}>
      <div role="rowgroup" className="many-head" style={{ minWidth: grid.minWidth }}>
        <div role="row" aria-rowindex={1} className="many-row" style={grid}>
          {choosing && (
            <div role="columnheader">
              <input type="checkbox" aria-label={say.chooseAllThatFit()} checked={rows.length > 0 && chosen === rows.length} ref={(e) => void (e && (e.indeterminate = chosen > 0 && chosen < rows.length))} onChange={(e) => onPicked(() => new Set(e.target.checked ? rows.map((r) => r.id) : []))} />
            </div>
          )}
          {columns.map((c) => (
            <div key={c.key} role="columnheader" aria-sort={c.compare && order === c.key ? (down ? "descending" : "ascending") : undefined} className={c.align === "right" ? "right" : undefined}>
              {c.compare ? (
                <button type="button" onClick={() => onSort(order === c.key && !down ? `-${c.key}` : c.key)}>
                  {c.title} {order === c.key && (down ? <CaretDownOutlined /> : <CaretUpOutlined />)}
                </button>
              ) : (
                c.title
              )}
            </div>
          ))}
        </div>
      </div>
      {rows.length === 0 && (loading ? <Spin className="many-none" /> : <Empty className="many-none" image={Empty.PRESENTED_IMAGE_SIMPLE} description={empty} />)}
      <div role="rowgroup" style={{ height: seen.getTotalSize(), minWidth: grid.minWidth, position: "relative" }}>
        {seen.getVirtualItems().map((v) => {
          const row = rows[v.index];
          return row && <Row key={v.index} row={row} at={v.index} top={v.start} columns={columns} grid={grid} picked={picked?.has(row.id)} pick={pick} />;
        })}
      </div>
    </div>
  );
}

const Row = memo(function Row<T extends { id: string }>({ row, at, top, columns, grid, picked, pick }: { row: T; at: number; top: number; columns: readonly Column<T>[]; grid: CSSProperties; picked?: boolean; pick: (id: string, is: boolean) => void }) {
  return (
    <div role="row" aria-rowindex={at + 2} className="many-row" data-row={row.id} data-picked={picked} style={{ ...grid, transform: `translateY(${top}px)`, height: rowPixels, position: "absolute", left: 0, right: 0 }}>
      {picked !== undefined && (
        <div role="cell">
          <input type="checkbox" aria-label={say.chooseIt()} checked={picked} onChange={(e) => pick(row.id, e.target.checked)} />
        </div>
      )}
      {columns.map((c) => (
        <div key={c.key} role="cell" className={c.align === "right" ? "right number" : undefined}>
          {c.render(row)}
        </div>
      ))}
    </div>
  );
}) as <T extends { id: string }>(props: { row: T; at: number; top: number; columns: readonly Column<T>[]; grid: CSSProperties; picked?: boolean; pick: (id: string, is: boolean) => void }) => ReactNode;
