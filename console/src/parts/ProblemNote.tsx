import { Alert, Button, Space } from "antd";
import { Problem } from "../api/client";
import { useFollow } from "./useFollow";
import * as say from "words/parts/ProblemNote";

/** Where the console does what a problem says may be done; what it has no page for is told in words. */
const pages: Record<string, (subject: string) => [path: string, label: string]> = {
  "list-workspaces": () => ["/mine", say.myWorkspaces()],
  "show-workspace": (w) => [`/workspaces/${w}`, w],
  "start-workspace": (w) => [`/workspaces/${w}`, say.start(w)],
  "stop-workspace": (w) => [`/workspaces/${w}`, say.stop(w)],
  "remove-workspace": (w) => [`/workspaces/${w}`, say.remove(w)],
  "rebuild-workspace": (w) => [`/workspaces/${w}`, say.rebuild(w)],
  "list-sheets": (w) => [`/workspaces/${w}`, w],
  "list-services": (w) => [`/workspaces/${w}?view=services`, say.servicesOf(w)],
  "list-repositories": () => ["/repositories", say.repositories()],
  "add-repository": () => ["/repositories", say.repositories()],
  "put-repository-credential": () => ["/repositories", say.repositories()],
  "make-deploy-key": (r) => [`/repositories/${r}`, r],
  "put-plan": () => ["/repositories", say.repositoriesAndPrebuilds()],
  "list-plans": () => ["/repositories", say.repositoriesAndPrebuilds()],
  "make-push-key": () => ["/repositories", say.repositories()],
  "check-definition": (of) => [`/repositories/${of.split("@")[0]}/definition${of.includes("@") ? `?branch=${encodeURIComponent(of.split("@")[1] ?? "")}` : ""}`, say.definitionOf(of)],
  "list-people": () => ["/people", say.people()],
  "change-person": () => ["/people", say.people()],
  "list-guests": () => ["/people", say.people()],
  "list-teams": () => ["/people", say.people()],
  "list-enrolments": () => ["/people", say.people()],
  "make-program-token": () => ["/people", say.people()],
  "list-quarantine": () => ["/fleet", say.fleet()],
  "remove-quarantined": () => ["/fleet", say.fleet()],
  "list-containers": () => ["/fleet", say.fleet()],
  "list-attention": () => ["/attention", say.attention()],
  "list-recordings": () => ["/recordings", say.recordings()],
  "end-recording": () => ["/recordings", say.recordings()],
  "list-operations": () => ["/operations", say.operations()],
  "list-secrets": () => ["/secrets", say.secrets()],
  "put-secret": () => ["/secrets", say.secrets()],
  "put-rules": () => ["/rules", say.houseRules()],
  "list-rules": () => ["/rules", say.houseRules()],
  "list-starters": () => ["/starters", say.starters()],
  "show-starter": () => ["/starters", say.starters()],
  "list-tokens": () => ["/you", say.signInsAndTokens()],
  "begin-git-host": () => ["/you", say.gitHosts()],
  "put-git-key": () => ["/you", say.gitHosts()],
  "show-git-key": () => ["/you", say.gitHosts()],
  "put-git-credential": () => ["/you", say.gitHosts()],
  "list-git-hosts": () => ["/providers", say.providers()],
  "list-git-credentials": () => ["/you", say.gitHosts()],
  "list-launch-links": () => ["/launch-links", say.launchLinks()],
  "list-providers": () => ["/providers", say.providers()],
  "list-webhooks": () => ["/webhooks", say.webhooks()],
  "sign-in": () => [`/again?to=${encodeURIComponent(location.pathname + location.search)}`, say.signIn()],
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
