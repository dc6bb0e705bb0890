import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Layout, Spin, Typography, theme } from "antd";
import { Link, Route, Routes } from "react-router";
import { Problem, api, take } from "./api/client";
import { useEvents } from "./api/events";
import { LaunchPage } from "./pages/LaunchPage";
import { SignInPage } from "./pages/SignInPage";
import { WorkspacePage } from "./pages/WorkspacePage";
import { WorkspacesPage } from "./pages/WorkspacesPage";
import { ProblemNote } from "./parts/ProblemNote";

/** What stands around every page: who is signed in, and whether we are live. */
export function Frame() {
  const { token } = theme.useToken();
  const queries = useQueryClient();
  const me = useQuery({ queryKey: ["me"], queryFn: () => take(api.GET("/api/v1/me")) });
  const lost = useEvents(Boolean(me.data));
  const background = { minHeight: "100vh", background: token.colorBgLayout, color: token.colorText };
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
  return (
    <Layout style={background}>
      <header className="top" style={{ background: token.colorBgContainer }}>
        <Link to="/" className="top-name" style={{ color: token.colorText }}>
          <img src="/mark.svg" alt="" /> Yard Bench
        </Link>
        <nav aria-label="Pages">
          <Link to="/">Workspaces</Link>
        </nav>
        <span className="spacer" />
        <Typography.Text type="secondary">
          {person.full_name}, {person.role}
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
      {lost && <Alert banner type="warning" title="The event stream is lost: what you see may be old. It is being connected again." />}
      <main className="page">
        <Routes>
          <Route path="/" element={<WorkspacesPage person={person} />} />
          <Route path="/launch" element={<LaunchPage />} />
          <Route path="/workspaces/:name" element={<WorkspacePage person={person} />} />
          <Route path="*" element={<ProblemNote error={new Problem(404, "There is no page at this address.", "Go to Workspaces, above.")} />} />
        </Routes>
      </main>
    </Layout>
  );
}
