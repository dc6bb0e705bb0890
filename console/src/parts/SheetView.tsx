import { BulbOutlined, CheckOutlined, CloseOutlined, LoadingOutlined, MinusOutlined } from "@ant-design/icons";
import { Tooltip, Typography, theme } from "antd";
import type { Sheet, Step } from "../api/client";
import { bytes } from "words/amounts";
import { useNow } from "./clock";
import { clock, exact, took } from "words/times";
import * as say from "words/parts/SheetView";

/** A launch sheet: its steps as bars on one time axis, parts behind their step. */
export function SheetView({ sheet, causeTold }: { sheet: Sheet; causeTold?: boolean }) {
  const { token } = theme.useToken();
  const running = !sheet.ended_at;
  const now = useNow(running);
  const start = Date.parse(sheet.started_at);
  const end = sheet.ended_at ? Date.parse(sheet.ended_at) : Math.max(now, start + 1);
  const span = Math.max(end - start, 1);
  const endOf = (s: Step) => (s.ended_at ? Date.parse(s.ended_at) : Math.max(now, Date.parse(s.started_at)));
  const steps = sheet.steps.filter((s) => !s.parent).flatMap((s) => [s, ...sheet.steps.filter((p) => p.parent === s.number)]);
  const colour = (s: Step) => (s.outcome === "failed" ? token.colorError : s.outcome === "interrupted" ? token.colorWarning : !s.ended_at ? token.colorPrimary : s.cached ? token.colorTextQuaternary : token.colorSuccess);
  return (
    <div role="table" aria-label={say.launchSheet()} data-sheet={sheet.number} data-outcome={sheet.outcome || "under way"}>
      <Typography.Paragraph type="secondary" style={{ marginBottom: 8 }}>
        {say.begunUnderWayFor(sheet.kind, <Tooltip title={exact(sheet.started_at)}>{clock(sheet.started_at)}</Tooltip>, running, sheet.outcome, <span className="number">{took(end - start)}</span>)}
      </Typography.Paragraph>
      {steps.map((s) => {
        const left = Math.min(99.5, Math.max(0, ((Date.parse(s.started_at) - start) / span) * 100));
        const width = Math.max(0.5, Math.min(100 - left, ((endOf(s) - Date.parse(s.started_at)) / span) * 100));
        return (
          <div role="row" key={s.number} className="step" data-step={s.title} data-outcome={s.outcome || "under way"}>
            <span role="cell" className={s.parent ? "step-title part" : "step-title"} title={s.title}>
              <span style={{ color: colour(s) }}>{mark(s)}</span> {s.title}
            </span>
            <span role="cell" className="step-axis">
              <span className="step-bar" style={{ left: `${left}%`, width: `${width}%`, background: colour(s), opacity: s.parent ? 0.6 : 1 }} />
            </span>
            <span role="cell" className="step-time number">
              {s.usual_ms ? (
                <Tooltip title={say.usually19Of20(took(s.usual_ms), took(s.slow_ms ?? s.usual_ms))}>
                  <span style={endOf(s) - Date.parse(s.started_at) > Math.max(1.5 * (s.slow_ms ?? 0), 1000) ? { color: token.colorWarning } : undefined}>{took(endOf(s) - Date.parse(s.started_at))}</span>
                </Tooltip>
              ) : (
                took(endOf(s) - Date.parse(s.started_at))
              )}
            </span>
            <span role="cell" className="step-note">
              {s.cached && say.cached()}
              {!!s.bytes && (
                <span className="number" style={{ marginRight: 8 }}>
                  {bytes(s.bytes)}
                </span>
              )}
              {!!s.usual_ms && !s.cached && <span className="quiet">{say.usually(took(s.usual_ms))}</span>}
              {s.outcome === "failed" && <Tooltip title={s.cause}>{say.failed()}</Tooltip>}
              {s.outcome === "interrupted" && say.interrupted()}
              {s.attempt > 1 && say.attempt(s.attempt)}
            </span>
          </div>
        );
      })}
      {sheet.waits && <Typography.Paragraph type="warning">{say.itWaits(sheet.waits)}</Typography.Paragraph>}
      {sheet.hint && (
        <Typography.Paragraph style={{ marginTop: 10 }}>
          <BulbOutlined /> {sheet.hint}
        </Typography.Paragraph>
      )}
      {sheet.cause && !causeTold && (
        <Typography.Paragraph type="danger" style={{ marginTop: 10, whiteSpace: "pre-wrap" }}>
          {sheet.cause}
        </Typography.Paragraph>
      )}
    </div>
  );
}

function mark(s: Step) {
  if (!s.ended_at) return <LoadingOutlined />;
  if (s.outcome === "failed") return <CloseOutlined />;
  return s.outcome === "done" ? <CheckOutlined /> : <MinusOutlined />;
}
