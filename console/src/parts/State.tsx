import { CheckCircleFilled, ClockCircleOutlined, CloseCircleFilled, LoadingOutlined, PauseCircleFilled, PushpinOutlined, WarningFilled } from "@ant-design/icons";
import { theme } from "antd";
import type { Workspace, WorkspaceRow } from "../api/client";
import { useColours } from "../palette";
import * as say from "words/parts/State";

/** A workspace's phase with its conditions: always an icon and a word. On one line, for lists, the first of them and how many more. */
export function State({ of: w, line = false }: { of: Workspace | WorkspaceRow; line?: boolean }) {
  const shown = line ? w.conditions.slice(0, 1) : w.conditions;
  const more = w.conditions.slice(shown.length);
  const { token } = theme.useToken();
  const colours = useColours();
  const [icon, colour] = look(w.phase, token.colorSuccess, token.colorError, colours.rest);
  return (
    <span className={line ? "states line" : "states"}>
      <span data-phase={w.phase} title={w.cause} style={{ color: colour, whiteSpace: "nowrap" }}>
        {icon} {w.phase === "failed" ? say.failedIn(w.failed_in) : w.phase}
      </span>
      {shown.map((c) => (
        <span key={c.kind} title={c.reason} style={{ color: c.kind === "adopted" ? colours.rest : token.colorWarning, whiteSpace: "nowrap" }}>
          {c.kind === "adopted" ? <PushpinOutlined /> : <WarningFilled />} {c.kind}
        </span>
      ))}
      {more.length > 0 && (
        <span className="quiet" title={more.map((c) => `${c.kind}: ${c.reason}`).join("; ")}>
          +{more.length}
        </span>
      )}
    </span>
  );
}

function look(phase: Workspace["phase"], good: string, bad: string, rest: string) {
  switch (phase) {
    case "ready":
      return [<CheckCircleFilled key="i" />, good] as const;
    case "failed":
      return [<CloseCircleFilled key="i" />, bad] as const;
    case "stopped":
    case "removed":
      return [<PauseCircleFilled key="i" />, rest] as const;
    case "waiting":
      return [<ClockCircleOutlined key="i" />, rest] as const;
    default:
      return [<LoadingOutlined key="i" />, undefined] as const;
  }
}
