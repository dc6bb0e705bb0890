import { CheckCircleFilled, ClockCircleOutlined, CloseCircleFilled, LoadingOutlined, PauseCircleFilled, PushpinOutlined, WarningFilled } from "@ant-design/icons";
import { Space, Tooltip, theme } from "antd";
import type { Workspace } from "../api/client";
import { colours } from "../theme";

/** A workspace's phase with its conditions: always an icon and a word. */
export function State({ of: w }: { of: Workspace }) {
  const { token } = theme.useToken();
  const [icon, colour] = look(w.phase, token.colorSuccess, token.colorError);
  return (
    <Space size={10} wrap>
      <Tooltip title={w.cause}>
        <span data-phase={w.phase} style={{ color: colour, whiteSpace: "nowrap" }}>
          {icon} {w.phase === "failed" ? `failed in ${w.failed_in}` : w.phase}
        </span>
      </Tooltip>
      {w.conditions.map((c) => (
        <Tooltip key={c.kind} title={c.reason}>
          <span style={{ color: c.kind === "adopted" ? colours.rest : token.colorWarning, whiteSpace: "nowrap" }}>
            {c.kind === "adopted" ? <PushpinOutlined /> : <WarningFilled />} {c.kind}
          </span>
        </Tooltip>
      ))}
    </Space>
  );
}

function look(phase: Workspace["phase"], good: string, bad: string) {
  switch (phase) {
    case "ready":
      return [<CheckCircleFilled key="i" />, good] as const;
    case "failed":
      return [<CloseCircleFilled key="i" />, bad] as const;
    case "stopped":
    case "removed":
      return [<PauseCircleFilled key="i" />, colours.rest] as const;
    case "waiting":
      return [<ClockCircleOutlined key="i" />, colours.rest] as const;
    default:
      return [<LoadingOutlined key="i" />, undefined] as const;
  }
}
