import { Alert, Button, Space } from "antd";
import { Problem } from "../api/client";
import { useFollow } from "./useFollow";

/** Where the console does what a problem says may be done; what it has no page for is told in words. */
const pages: Record<string, (subject: string) => [path: string, label: string]> = {
  "list-workspaces": () => ["/mine", "My workspaces"],
  "show-workspace": (w) => [`/workspaces/${w}`, w],
  "start-workspace": (w) => [`/workspaces/${w}`, `Start ${w}`],
  "stop-workspace": (w) => [`/workspaces/${w}`, `Stop ${w}`],
  "remove-workspace": (w) => [`/workspaces/${w}`, `Remove ${w}`],
  "rebuild-workspace": (w) => [`/workspaces/${w}`, `Rebuild ${w}`],
  "list-sheets": (w) => [`/workspaces/${w}`, w],
  "list-services": (w) => [`/workspaces/${w}?view=services`, `Services of ${w}`],
  "list-repositories": () => ["/repositories", "Repositories"],
  "add-repository": () => ["/repositories", "Repositories"],
  "put-repository-credential": () => ["/repositories", "Repositories"],
  "put-plan": () => ["/repositories", "Repositories and prebuilds"],
  "list-plans": () => ["/repositories", "Repositories and prebuilds"],
  "make-push-key": () => ["/repositories", "Repositories"],
  "check-definition": (of) => [`/repositories/${of.split("@")[0]}/definition${of.includes("@") ? `?branch=${encodeURIComponent(of.split("@")[1] ?? "")}` : ""}`, `Definition of ${of}`],
  "list-people": () => ["/people", "People"],
  "change-person": () => ["/people", "People"],
  "list-teams": () => ["/people", "People"],
  "list-enrolments": () => ["/people", "People"],
  "make-program-token": () => ["/people", "People"],
  "list-containers": () => ["/fleet", "Fleet"],
  "list-attention": () => ["/attention", "Attention"],
  "list-recordings": () => ["/recordings", "Recordings"],
  "end-recording": () => ["/recordings", "Recordings"],
  "list-operations": () => ["/operations", "Operations"],
  "list-secrets": () => ["/secrets", "Secrets"],
  "list-rules": () => ["/rules", "House rules"],
  "list-starters": () => ["/starters", "Starters"],
  "show-starter": () => ["/starters", "Starters"],
  "list-tokens": () => ["/you", "Sign-ins and tokens"],
  "list-git-credentials": () => ["/you", "Git hosts"],
  "list-webhooks": () => ["/webhooks", "Webhooks"],
  "sign-in": () => ["/", "Sign in"],
};

/** What happened, why, and what to do next. */
export function ProblemNote({ error }: { error: unknown }) {
  const follow = useFollow();
  if (!error) return null;
  const p = error instanceof Problem ? error : new Problem(0, String(error));
  return (
    <Alert
      type="error"
      showIcon
      title={p.detail}
      description={
        (p.next || p.errors.length > 0 || p.limits.length > 0 || p.actions.length > 0) && (
          <>
            {p.limits.map((l) => (
              <div key={l.kind + l.whose}>
                {l.kind}, {l.whose}: {l.text}
              </div>
            ))}
            {p.errors.map((e) => (
              <div key={e.field + e.detail}>
                {e.field.replace(/^\//, "").replaceAll("_", " ")}: {e.detail}
              </div>
            ))}
            {p.next && <div style={{ whiteSpace: "pre-wrap" }}>{p.next}</div>}
            <Space wrap size={6} style={{ marginTop: 6 }}>
              {p.actions.map((a) => {
                const page = pages[a.rel]?.(a.subject ?? "");
                return (
                  page && (
                    <Button key={a.rel + a.subject} size="small" {...follow(page[0])}>
                      {page[1]}
                    </Button>
                  )
                );
              })}
            </Space>
          </>
        )
      }
    />
  );
}
