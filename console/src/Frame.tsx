import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Layout, Spin, Typography, theme } from "antd";
import { lazy, Suspense } from "react";
import { Link, Navigate, NavLink, Route, Routes, useLocation } from "react-router";
import { Problem, api, take, type Person } from "./api/client";
import { useEvents } from "./api/events";
import { DefinitionPage } from "./pages/DefinitionPage";
import { EnrolPage } from "./pages/EnrolPage";
import { JournalPage } from "./pages/JournalPage";
import { LaunchPage } from "./pages/LaunchPage";
import { PeoplePage } from "./pages/PeoplePage";
import { RepositoriesPage } from "./pages/RepositoriesPage";
import { RunPage } from "./pages/RunPage";
import { SecretsPage } from "./pages/SecretsPage";
import { SignInPage } from "./pages/SignInPage";
import { StartersPage } from "./pages/StartersPage";
import { VisitPage } from "./pages/VisitPage";
import { WebhooksPage } from "./pages/WebhooksPage";
import { WorkspacePage } from "./pages/WorkspacePage";
import { WorkspacesPage } from "./pages/WorkspacesPage";
import { YouPage } from "./pages/YouPage";
import { ProblemNote } from "./parts/ProblemNote";
import { when } from "./parts/time";

// The chart and the editor are large, and few people open them.
const CostPage = lazy(() => import("./pages/CostPage").then((m) => ({ default: m.CostPage })));
const RulesPage = lazy(() => import("./pages/RulesPage").then((m) => ({ default: m.RulesPage })));

/** The pages a role has, in the order in which it needs them. */
function pages(person: Person): [string, string][] {
  const mine: [string, string] = ["/mine", "Mine"];
  const fleet: [string, string] = ["/fleet", person.role === "lead" ? "My team's" : "Fleet"];
  const people: [string, string] = ["/people", "People"];
  const common: [string, string][] = [["/repositories", "Repositories"]];
  const tail: [string, string][] = [["/cost", "Cost"], ["/rules", "House rules"], ["/journal", "Journal"]];
  switch (person.role) {
    case "operator":
      return [fleet, mine, ...common, ["/secrets", "Secrets"], people, ...tail, ["/webhooks", "Webhooks"]];
    case "lead":
      return [mine, fleet, ...common, ["/secrets", "Secrets"], people, ...tail];
    case "auditor":
      return [fleet, ...common, people, ...tail, ["/webhooks", "Webhooks"]];
  }
  return [mine, ...common, ["/secrets", "Secrets"], ...tail];
}

/** What stands around every page: who is signed in, and whether we are live. */
export function Frame() {
  const { token } = theme.useToken();
  const queries = useQueryClient();
  const { pathname } = useLocation();
  const enrolling = pathname === "/enrol";
  const me = useQuery({ queryKey: ["me"], queryFn: () => take(api.GET("/api/v1/me")), enabled: !enrolling });
  const health = useQuery({ queryKey: ["health"], queryFn: () => take(api.GET("/api/v1/health")), refetchInterval: 30_000 });
  const lost = useEvents(Boolean(me.data));
  const background = { minHeight: "100vh", background: token.colorBgLayout, color: token.colorText };
  if (enrolling) {
    return (
      <Layout style={background}>
        <EnrolPage />
      </Layout>
    );
  }
  if (me.isPending) return <Spin fullscreen />;
  if (me.error instanceof Problem && me.error.status === 401) {
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
          <Link to="/you">{person.full_name}</Link>, {person.role}
          {person.team && `, ${person.team}`}
        </Typography.Text>
        <Button
          size="small"
          onClick={async () => {
            await take(api.POST("/api/v1/sign-out"));
            queries.clear();
            location.assign("/");
          }}
        >
          Sign out
        </Button>
      </header>
      {health.data?.simulated && <Alert banner type="info" title="This yard is simulated: nothing really runs in its workspaces." />}
      {health.data?.troubles?.map((t) => <Alert key={t.kind} banner type="error" title={`Since ${when(t.since)} ${t.text}.`} />)}
      {lost && <Alert banner type="warning" title="The event stream is lost: what you see may be old. It is being connected again." />}
      <main className="page">
        <Suspense fallback={<Spin />}>
          <Routes>
            <Route path="/" element={<Navigate to={nav[0]?.[0] ?? "/mine"} replace />} />
            <Route path="/mine" element={<WorkspacesPage key="mine" person={person} all={false} />} />
            <Route path="/fleet" element={<WorkspacesPage key="fleet" person={person} all />} />
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
            <Route path="/visit" element={<VisitPage />} />
            <Route path="*" element={<ProblemNote error={new Problem(404, "There is no page at this address.", "Choose one of the pages above.")} />} />
          </Routes>
        </Suspense>
      </main>
    </Layout>
  );
}
