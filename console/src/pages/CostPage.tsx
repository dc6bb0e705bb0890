import { useQuery } from "@tanstack/react-query";
import { Button, DatePicker, Segmented, Table, Tag, theme, type TableColumnsType } from "antd";
import { BarChart } from "echarts/charts";
import { AriaComponent, GridComponent, LegendComponent, TooltipComponent } from "echarts/components";
import * as echarts from "echarts/core";
import { SVGRenderer } from "echarts/renderers";
import { useEffect, useRef } from "react";
import { Link, useSearchParams } from "react-router";
import dayjs from "dayjs";
import { type CostRow, type Me, may } from "../api/client";
import { cents, hours } from "words/amounts";
import { nothing, PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { oneOf, sorted, sorting, useAddress } from "../parts/search";
import { virtualFrom } from "../parts/virtual";
import { useColours } from "../palette";
import { cost, type Only } from "../service/cost";
import * as say from "words/pages/CostPage";

echarts.use([BarChart, GridComponent, TooltipComponent, LegendComponent, AriaComponent, SVGRenderer]);

const groups = ["team", "person", "repository", "workspace", "day"] as const;
type By = (typeof groups)[number];

/** What a report can be narrowed to, one in another: each row leads to what it is made of. */
const narrowed = ["team", "person", "repository", "workspace"] as const;
const within: Record<By, By | undefined> = { team: "person", person: "workspace", repository: "person", workspace: "day", day: "workspace" };

/** What was used, and what it cost: a month's days as stacks, and the same by whom; each row leads to what it is made of. */
export function CostPage({ person }: { person: Me }) {
  const [get, set] = useAddress();
  const by = oneOf(get("by"), groups, may(person, "cost.see", "team", "other") ? "team" : "workspace");
  const month = get("month") ?? dayjs().format("YYYY-MM");
  const day = get("day");
  const only = Object.fromEntries(narrowed.map((k) => [k, get(k)]).filter(([, v]) => v)) as Only;
  const span = { from: `${month}-01`, to: dayjs(`${month}-01`).add(1, "month").format("YYYY-MM-DD") };
  const query = { by, ...only, ...(day ? { from: day, to: dayjs(day).add(1, "day").format("YYYY-MM-DD") } : span) };
  const rows = useQuery(cost(query));
  const days = useQuery(cost({ by: "day", ...only, ...span }));
  const currency = rows.data?.currency ?? "EUR";
  const total = rows.data?.total;
  const order = sorting<CostRow>(get("sort") ?? (by === "day" ? "key" : "-total"));
  const amount = (title: string, key: "active_micros" | "idle_micros" | "storage_micros" | "prebuild_micros" | "total_micros", name: string) => ({
    title,
    align: "right" as const,
    className: "number",
    ...order(name, (a, b) => a[key] - b[key]),
    render: (_: unknown, r: CostRow) => cents(r[key], currency),
  });
  const columns: TableColumnsType<CostRow> = [
    { title: by.charAt(0).toUpperCase() + by.slice(1), ...order("key", (a, b) => a.key.localeCompare(b.key)), render: (_, r) => <Made of={r} by={by} only={only} /> },
    { title: say.active(), align: "right", className: "number", ...order("active", (a, b) => a.active_s - b.active_s), render: (_, r) => hours(r.active_s) },
    { title: say.idle(), align: "right", className: "number", ...order("idle", (a, b) => a.idle_s - b.idle_s), render: (_, r) => hours(r.idle_s) },
    amount(say.active(), "active_micros", "active-money"),
    amount(say.idleWaste(), "idle_micros", "idle-money"),
    amount(say.storage(), "storage_micros", "storage"),
    amount(say.prebuilds(), "prebuild_micros", "prebuild"),
    amount(say.total(), "total_micros", "total"),
  ];
  const csv = `/api/v1/cost.csv?${new URLSearchParams(query)}`;
  return (
    <>
      <PageHead
        title={say.cost()}
        action={
          <Button href={csv} download>
            {say.downloadAsCsv()}
          </Button>
        }
      >
        <DatePicker picker="month" allowClear={false} aria-label={say.month()} value={dayjs(`${month}-01`)} onChange={(d) => set({ month: d?.format("YYYY-MM"), day: undefined })} disabledDate={(d) => d.isAfter(dayjs(), "month")} />
        <Segmented<By> value={by} onChange={(v) => set({ by: v, sort: undefined })} options={groups.map((v) => ({ value: v, label: say.by(v) }))} />
        {total && (
          <span className="number" data-total={total.total_micros}>
            {say.ofItIdle(<b>{cents(total.total_micros, currency)}</b>, cents(total.idle_micros, currency))}
          </span>
        )}
      </PageHead>
      <ProblemNote error={rows.error ?? days.error} />
      {(day || Object.keys(only).length > 0) && (
        <p className="facts-line" aria-label={say.only()}>
          {say.only()}
          {narrowed.map(
            (k) =>
              only[k] && (
                <Tag key={k} closable onClose={() => set({ [k]: undefined })}>
                  {k} {only[k]}
                </Tag>
              ),
          )}
          {day && (
            <Tag closable onClose={() => set({ day: undefined })}>
              {dayjs(day).format("D MMMM")}
            </Tag>
          )}
          {only.workspace && (
            <>
              <Link to={`/workspaces/${only.workspace}`}>{say.theWorkspace()}</Link>
              <Link to={`/journal?workspace=${encodeURIComponent(only.workspace)}&from=${query.from}&to=${query.to}`}>{say.itsJournalOfThe()}</Link>
            </>
          )}
        </p>
      )}
      {days.data && <Days rows={days.data.rows} currency={currency} month={month} />}
      <Table<CostRow> size="small" rowKey="key" {...virtualFrom(rows.data?.rows, 980, Math.max(240, window.innerHeight - 470))} pagination={false} loading={rows.isPending} dataSource={rows.data?.rows} columns={columns} onChange={(_, __, s) => set({ sort: sorted(s) })} locale={nothing(say.nothingWasUsedIn())} />
      <p className="quiet small">{say.daysAreThoseOf()}</p>
    </>
  );
}

/** A row's name, which leads to what it is made of. */
function Made({ of: r, by, only }: { of: CostRow; by: By; only: Only }) {
  const [search] = useSearchParams();
  if (!r.key) return <span className="quiet">{say.prebuildsAndPeopleWithout()}</span>;
  const into = within[by];
  if (!into || r.key.startsWith("prebuilds of ") || (by === "repository" && r.key.includes(", removed "))) return r.key;
  const next = new URLSearchParams(search);
  next.set(by, r.key);
  next.set("by", by === "day" && only.workspace ? "day" : into);
  next.delete("sort");
  return <Link to={`?${next}`}>{r.key}</Link>;
}

/** A month's days as stacks; what was paid for idle hours is hatched. */
function Days({ rows, currency, month }: { rows: CostRow[]; currency: string; month: string }) {
  const place = useRef<HTMLDivElement>(null);
  const { token } = theme.useToken();
  const colours = useColours();
  useEffect(() => {
    const chart = echarts.init(place.current!, undefined, { renderer: "svg" });
    const keys = Array.from({ length: dayjs(`${month}-01`).daysInMonth() }, (_, i) => `${month}-${String(i + 1).padStart(2, "0")}`);
    const of = new Map(rows.map((r) => [r.key, r]));
    const series = (name: string, key: "active_micros" | "idle_micros" | "storage_micros" | "prebuild_micros", color: string, hatched = false) => ({
      name,
      type: "bar" as const,
      stack: "day",
      barCategoryGap: "22%",
      data: keys.map((k) => (of.get(k)?.[key] || null) && (of.get(k)?.[key] ?? 0) / 1e6),
      itemStyle: {
        color,
        borderWidth: 0,
        ...(hatched && { color: token.colorBgContainer, borderColor: color, borderWidth: 1, decal: { symbol: "rect", dashArrayX: [1, 0], dashArrayY: [2, 3], rotation: -Math.PI / 4, color } }),
      },
    });
    chart.setOption({
      aria: { enabled: true, decal: { show: false } },
      animation: false,
      textStyle: { fontFamily: token.fontFamily, color: token.colorText },
      grid: { left: 56, right: 8, top: 30, bottom: 24 },
      legend: { top: 0, left: 50, itemHeight: 10, textStyle: { color: token.colorText }, selectedMode: false },
      tooltip: { trigger: "axis", axisPointer: { type: "shadow" }, valueFormatter: (v: unknown) => cents(Number(v) * 1e6, currency) },
      xAxis: { type: "category", data: keys.map((k) => String(Number(k.slice(8)))), axisTick: { show: false }, axisLabel: { color: token.colorTextSecondary } },
      yAxis: { type: "value", axisLabel: { color: token.colorTextSecondary, formatter: (v: number) => cents(v * 1e6, currency) }, splitLine: { lineStyle: { color: token.colorBorderSecondary } } },
      series: [series("active", "active_micros", colours.good), series(say.idleWaste2(), "idle_micros", colours.attention, true), series("storage", "storage_micros", colours.rest), series("prebuilds", "prebuild_micros", colours.accent)],
    });
    const resize = () => chart.resize();
    window.addEventListener("resize", resize);
    return () => {
      window.removeEventListener("resize", resize);
      chart.dispose();
    };
  }, [rows, currency, month, token, colours]);
  return <div ref={place} style={{ height: 230, marginBottom: 12 }} role="img" aria-label={say.costOfEachDay(month)} />;
}
