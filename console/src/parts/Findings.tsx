import { CloseCircleFilled, InfoCircleFilled, WarningFilled } from "@ant-design/icons";
import { theme } from "antd";
import type { Finding } from "../api/client";
import * as say from "words/parts/Findings";

/** What a check of a definition found: each with its place, why it matters and what to do. */
export function Findings({ of }: { of: Finding[] }) {
  const { token } = theme.useToken();
  const icons = {
    error: <CloseCircleFilled aria-label={say.error()} style={{ color: token.colorError }} />,
    warning: <WarningFilled aria-label={say.warning()} style={{ color: token.colorWarning }} />,
    note: <InfoCircleFilled aria-label={say.note()} style={{ color: token.colorInfo }} />,
  };
  return (
    <ul className="findings" aria-label={say.findings()}>
      {of.map((f, n) => (
        <li key={n} data-rule={f.rule}>
          {icons[f.severity]} {f.what}
          {f.why && <div className="quiet">{say.why(f.why)}</div>}
          {f.fix && <div className="quiet">{say.doIt(f.fix)}</div>}
          <code className="quiet">
            {f.path}
            {f.line ? `:${f.line}:${f.column}` : ""}
          </code>
        </li>
      ))}
    </ul>
  );
}
