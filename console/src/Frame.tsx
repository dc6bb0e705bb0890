import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Layout, Spin, Typography, theme } from "antd";
import { lazy, Suspense, useEffect, useRef } from "react";
import { Link, Navigate, NavLink, Route, Routes, useLocation } from "react-router";
import { Problem, api, take, type Person } from "./api/client";
import { useEvents } from "./api/events";
import { EnrolPage } from "./pages/EnrolPage";
import { SignInPage } from "./pages/SignInPage";
import { Boundary } from "./parts/Boundary";
import { ProblemNote } from "./parts/ProblemNote";
import { when } from "./parts/time";

// Each page comes when it is opened.
const AttentionPage = lazy(() => import("./pages/AttentionPage").then((m) => ({ default: m.AttentionPage })));
const BenchPage = lazy(() => import("./bench/BenchPage").then((m) => ({ default: m.BenchPage })));
const CostPage = lazy(() => import("./pages/CostPage").then((m) => ({ default: m.CostPage })));
const DefinitionPage = lazy(() => import("./pages/DefinitionPage").then((m) => ({ default: m.DefinitionPage })));
const JournalPage = lazy(() => import("./pages/JournalPage").then((m) => ({ default: m.JournalPage })));
const LookPage = lazy(() => import("./pages/LookPage").then((m) => ({ default: m.LookPage })));
const LaunchPage = lazy(() => import("./pages/LaunchPage").then((m) => ({ default: m.LaunchPage })));
const OperationsPage = lazy(() => import("./pages/OperationsPage").then((m) => ({ default: m.OperationsPage })));
const PeoplePage = lazy(() => import("./pages/PeoplePage").then((m) => ({ default: m.PeoplePage })));
const RecordingPage = lazy(() => import("./pages/RecordingPage").then((m) => ({ default: m.RecordingPage })));
const RecordingsPage = lazy(() => import("./pages/RecordingsPage").then((m) => ({ default: m.RecordingsPage })));
const RepositoriesPage = lazy(() => import("./pages/RepositoriesPage").then((m) => ({ default: m.RepositoriesPage })));
const RulesPage = lazy(() => import("./pages/RulesPage").then((m) => ({ default: m.RulesPage })));
const RunPage = lazy(() => import("./pages/RunPage").then((m) => ({ default: m.RunPage })));
const SecretsPage = lazy(() => import("./pages/SecretsPage").then((m) => ({ default: m.SecretsPage })));
const StartersPage = lazy(() => import("./pages/StartersPage").then((m) => ({ default: m.StartersPage })));
const VisitPage = lazy(() => import("./pages/VisitPage").then((m) => ({ default: m.VisitPage })));
const WebhooksPage = lazy(() => import("./pages/WebhooksPage").then((m) => ({ default: m.WebhooksPage })));
const WorkspacePage = lazy(() => import("./pages/WorkspacePage").then((m) => ({ default: m.WorkspacePage })));
const MinePage = lazy(() => import("./mine/MinePage").then((m) => ({ default: m.MinePage })));
const Fleet = lazy(() => import("./parts/Fleet").then((m) => ({ default: m.Fleet })));
const YouPage = lazy(() => import("./pages/YouPage").then((m) => ({ default: m.YouPage })));

/** The pages a role has, in the order in which it needs them. */
function pages(person: Person): [string, string][] {
  const mine: [string, string] = ["/mine", "Mine"];
  const fleet: [string, string] = ["/fleet", person.role === "lead" ? "My team's" : "Fleet"];
  const attention: [string, string] = ["/attention", "Attention"];
  const people: [string, string] = ["/people", "People"];
  const common: [string, string][] = [["/repositories", "Repositories"]];
  const tail: [string, string][] = [["/cost", "Cost"], ["/rules", "House rules"], ["/journal", "Journal"]];
  switch (person.role) {
    case "operator":
      return [attention, fleet, mine, ...common, ["/secrets", "Secrets"], people, ...tail, ["/webhooks", "Webhooks"]];
    case "lead":
      return [mine, fleet, attention, ...common, ["/secrets", "Secrets"], people, ...tail];
    case "auditor":
      return [fleet, attention, ...common, people, ...tail, ["/webhooks", "Webhooks"]];
  }
  return [mine, ...common, ["/secrets", "Secrets"], ...tail];
}

/** How a page is called in the window's title, by the beginning of its address. */
const titles: Record<string, string> = { mine: "Mine", fleet: "Fleet", attention: "Attention", operations: "Operations", launch: "Launch", repositories: "Repositories", webhooks: "Webhooks", starters: "Starters", "prebuild-runs": "Prebuild", secrets: "Secrets", people: "People", rules: "House rules", cost: "Cost", journal: "Journal", you: "You", recordings: "Recordings", visit: "Visit" };

/** titleOf is a page's title: what it is about first, so that many windows can be told apart. */
function titleOf(pathname: string): string {
  const [first = "", second] = pathname.split("/").filter(Boolean).map(decodeURIComponent);
  const about = second?.split(".")[0];
  const page = first === "bench" ? `${about}: bench` : first === "workspaces" || first === "looks" ? about : first === "repositories" && second ? `${second}: definition` : titles[first];
  return page ? `${page} · Yard Bench` : "Yard Bench";
}

/** What stands around every page: who is signed in, and whether we are live. */
export function Frame() {
  const { token } = theme.useToken();
  const { modal } = App.useApp();
  const queries = useQueryClient();
  const { pathname } = useLocation();
  const enrolling = pathname === "/enrol";
  const main = useRef<HTMLElement>(null);
  const before = useRef(pathname);
  useEffect(() => {
    document.title = titleOf(pathname);
    // Who goes on by keys or listens is at the new page's beginning, unless it has put them elsewhere.
    if (before.current !== pathname && !main.current?.contains(document.activeElement)) main.current?.focus({ preventScroll: true });
    before.current = pathname;
  }, [pathname]);
  const me = useQuery({ queryKey: ["me"], queryFn: ({ signal }) => take(api.GET("/api/v1/me", { signal })), enabled: !enrolling, refetchInterval: (q) => (q.state.data || (q.state.error instanceof Problem && q.state.error.status === 401) ? false : 5_000) });
  const health = useQuery({ queryKey: ["health"], queryFn: ({ signal }) => take(api.GET("/api/v1/health", { signal })), refetchInterval: 30_000 });
  const signedOut = me.error instanceof Problem && me.error.status === 401;
  const lost = useEvents(Boolean(me.data) && !signedOut);
  const bench = pathname.startsWith("/bench/");
  const background = { minHeight: "100vh", ...(bench ? { height: "100vh" } : {}), background: token.colorBgLayout, color: token.colorText };
  if (enrolling) {
    return (
      <Layout style={background}>
        <EnrolPage />
      </Layout>
    );
  }
  if (me.isPending) return <Spin fullscreen />;
  if (signedOut) {
    return (
      <Layout style={background}>
        <SignInPage onSignedIn={() => queries.resetQueries()} />
      </Layout>
    );
  }
  if (!me.data) {
    return (
      <Layout style={background}>
        <div className="narrow">
          <ProblemNote error={me.error} />
        </div>
      </Layout>
    );
  }
  const person = me.data;
  const nav = pages(person);
  return (
    <Layout style={background}>
      <header className="top" style={{ background: token.colorBgContainer }}>
        <Link to="/" className="top-name" style={{ color: token.colorText }}>
          <img src="/mark.svg" alt="" /> Yard Bench
          {me.data.organisation && <span className="house">{me.data.organisation}</span>}
        </Link>
        <nav aria-label="Pages">
          {nav.map(([to, name]) => (
            <NavLink key={to} to={to} style={({ isActive }) => ({ color: isActive ? token.colorText : token.colorLink, fontWeight: isActive ? 650 : 400 })}>
              {name}
            </NavLink>
          ))}
        </nav>
        <span className="spacer" />
        <Typography.Text type="secondary">
          <Link to="/you" style={{ textDecoration: "underline" }}>
            {person.full_name}
          </Link>
          , {person.role}
          {person.team && `, ${person.team}`}
        </Typography.Text>
        <Button
          size="small"
          onClick={async () => {
            const kept = await import("./bench/drafts").catch(() => undefined); // it may be cut off
            const unsaved = (await kept?.drafts()) ?? 0;
            if (unsaved > 0 && !(await modal.confirm({ title: unsaved === 1 ? "A file is written and not saved" : `${unsaved} files are written and not saved`, content: "What is kept of them in this browser is forgotten when you sign out: somebody else may be at it next.", okText: "Sign out and forget it" }))) return;
            await kept?.forget();
            await take(api.POST("/api/v1/sign-out")).catch(() => undefined); // it may have ended already
            queries.clear();
            location.assign("/");
          }}
        >
          Sign out
        </Button>
      </header>
      {health.data?.simulated && <Alert banner type="info" title="This yard is simulated: nothing really runs in its workspaces." />}
      {health.data?.troubles?.map((t) => <Alert key={t.kind} banner type="error" title={`Since ${when(t.since)} ${t.text}.`} />)}
      {me.data.expiring?.map((t) => (
        <Alert
          key={t.id}
          banner
          type="warning"
          title={
            t.door === "ssh" ? (
              <>
                Your key “{t.name}” for SSH lets you in until {when(t.expires_at)}. <Link to="/you">Remove it and add it again</Link>, or another.
              </>
            ) : (
              <>
                Your token “{t.name}” expires {when(t.expires_at)}. <Link to="/you">Make another</Link> and give it to its program.
              </>
            )
          }
        />
      ))}
      {lost && <Alert banner type="warning" title="The event stream is lost: what you see may be old. It is being connected again." />}
      <main ref={main} tabIndex={-1} className={bench ? "page bench-page" : "page"}>
        <Boundary key={pathname}>
          <Suspense fallback={<Spin />}>
          <Routes>
            <Route path="/" element={<Navigate to={nav[0]?.[0] ?? "/mine"} replace />} />
            <Route path="/mine" element={<MinePage person={person} />} />
            <Route path="/fleet" element={<Fleet key="fleet" person={person} all />} />
            <Route path="/attention" element={<AttentionPage person={person} />} />
            <Route path="/bench/:name" element={<BenchPage person={person} />} />
            <Route path="/operations" element={<OperationsPage person={person} />} />
            <Route path="/launch" element={<LaunchPage />} />
            <Route path="/workspaces/:name" element={<WorkspacePage person={person} />} />
            <Route path="/repositories" element={<RepositoriesPage person={person} />} />
            <Route path="/repositories/:repository/definition" element={<DefinitionPage />} />
            <Route path="/webhooks" element={<WebhooksPage person={person} />} />
            <Route path="/starters" element={<StartersPage />} />
            <Route path="/prebuild-runs/:run" element={<RunPage />} />
            <Route path="/secrets" element={<SecretsPage person={person} />} />
            <Route path="/people" element={<PeoplePage person={person} />} />
            <Route path="/rules" element={<RulesPage person={person} />} />
            <Route path="/cost" element={<CostPage person={person} />} />
            <Route path="/journal" element={<JournalPage />} />
            <Route path="/you" element={<YouPage person={person} />} />
            <Route path="/looks/:ref/:label" element={<LookPage />} />
            <Route path="/recordings" element={<RecordingsPage />} />
            <Route path="/recordings/:id" element={<RecordingPage />} />
            <Route path="/visit" element={<VisitPage />} />
            <Route path="*" element={<ProblemNote error={new Problem(404, "There is no page at this address.", "Choose one of the pages above.")} />} />
          </Routes>
          </Suspense>
        </Boundary>
      </main>
    </Layout>
  );
}
