import { CloseCircleFilled, InfoCircleFilled, WarningFilled } from "@ant-design/icons";
import { theme } from "antd";
import type { Finding } from "../api/client";

/** What a check of a definition found: each with its place, why it matters and what to do. */
export function Findings({ of }: { of: Finding[] }) {
  const { token } = theme.useToken();
  const icons = {
    error: <CloseCircleFilled aria-label="error" style={{ color: token.colorError }} />,
    warning: <WarningFilled aria-label="warning" style={{ color: token.colorWarning }} />,
    note: <InfoCircleFilled aria-label="note" style={{ color: token.colorInfo }} />,
  };
  return (
    <ul className="findings" aria-label="Findings">
      {of.map((f, n) => (
        <li key={n} data-rule={f.rule}>
          {icons[f.severity]} {f.what}
          {f.why && <div className="quiet">Why: {f.why}</div>}
          {f.fix && <div className="quiet">Do: {f.fix}</div>}
          <code className="quiet">
            {f.path}
            {f.line ? `:${f.line}:${f.column}` : ""}
          </code>
        </li>
      ))}
    </ul>
  );
}
