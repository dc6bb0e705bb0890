import { Alert } from "antd";
import { Problem } from "../api/client";

/** What happened, why, and what to do next. */
export function ProblemNote({ error }: { error: unknown }) {
  if (!error) return null;
  const p = error instanceof Problem ? error : new Problem(0, String(error));
  return (
    <Alert
      type="error"
      showIcon
      title={p.detail}
      description={
        (p.next || p.errors.length > 0) && (
          <>
            {p.errors.map((e) => (
              <div key={e.field + e.detail}>
                {e.field}: {e.detail}
              </div>
            ))}
            {p.next && <div style={{ whiteSpace: "pre-wrap" }}>{p.next}</div>}
          </>
        )
      }
    />
  );
}
