import { theme } from "antd";
import { useId } from "react";
import type { Stretch } from "../api/client";
import { useColours } from "../palette";
import { span } from "words/amounts";
import { useMinute } from "./clock";
import { when } from "words/times";
import * as say from "words/parts/DayStrip";

const day = 24 * 3600_000;

const mark = 30 * 60_000;

/** inStretches makes stretches of a list's 48 marks: a for worked in, i for idle. */
function inStretches(marks: string, end: number): Stretch[] {
  const begin = end - day;
  return [...marks.matchAll(/a+|i+/g)].map((run) => ({
    from: new Date(begin + run.index * mark).toISOString(),
    to: new Date(begin + (run.index + run[0].length) * mark).toISOString(),
    state: run[0].startsWith("a") ? "active" : "idle",
  }));
}

/** The last 24 hours of a workspace: worked in, idle (hatched), at rest. A list tells them to the half hour. */
export function DayStrip({ day: told, width = 180 }: { day: Stretch[] | string; width?: number }) {
  const { token } = theme.useToken();
  const colours = useColours();
  const hatch = useId(); // there are many of them on a page
  const end = useMinute();
  const begin = end - day;
  const stretches = typeof told === "string" ? inStretches(told, end) : told;
  const about = typeof told === "string" ? say.about() : "";
  const x = (iso: string) => Math.max(0, Math.min(1, (Date.parse(iso) - begin) / day)) * width;
  const active = stretches.filter((s) => s.state === "active").reduce((n, s) => n + Date.parse(s.to) - Math.max(begin, Date.parse(s.from)), 0);
  const idle = stretches.filter((s) => s.state === "idle").reduce((n, s) => n + Date.parse(s.to) - Math.max(begin, Date.parse(s.from)), 0);
  const text = say.inTheLast24(about, span(active / 1000), span(idle / 1000), stretches[0] && when(stretches[0].from));
  return (
    <svg role="img" aria-label={text} width={width} height={14} style={{ display: "block" }}>
      <title>{text}</title>
      <defs>
        <pattern id={hatch} width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="4" height="4" fill={token.colorBgContainer} />
          <rect width="2" height="4" fill={colours.attention} />
        </pattern>
      </defs>
      <rect y={6} width={width} height={2} fill={colours.rest} opacity={0.35} />
      {[6, 12, 18].map((h) => (
        <rect key={h} x={(h / 24) * width} y={4} width={1} height={6} fill={colours.rest} opacity={0.35} />
      ))}
      {stretches.map((s) => (
        <rect key={s.from + s.state} x={Math.min(x(s.from), width - 2)} y={s.state === "active" ? 1 : 3} width={Math.max(2, x(s.to) - x(s.from))} height={s.state === "active" ? 12 : 8} fill={s.state === "active" ? token.colorSuccess : `url(#${hatch})`} />
      ))}
    </svg>
  );
}
