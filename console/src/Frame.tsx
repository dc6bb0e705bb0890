import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, App, Button, Spin, Typography, theme } from "antd";
import { Suspense, useEffect, useRef, useState } from "react";
import { Link, Navigate, NavLink, Route, Routes, useLocation } from "react-router";
import { Problem, may, type Me } from "./api/client";
import { useEvents } from "./api/events";
import { Boundary } from "./parts/Boundary";
import { ProblemNote } from "./parts/ProblemNote";
import { tellIn, when } from "words/times";
import { barOf, rooms, titleOf } from "./routes";
import { tasteFollows, useTaste } from "./parts/taste";
import { Announced } from "./parts/Announced";
import { keep, kept } from "./service/kept";
import { health as healthOf, renewed, signOut } from "./service/session";
import * as say from "words/Frame";

const here = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** What stands around every page: who is signed in, and whether we are live. */
export function Frame({ person }: { person: Me }) {
  const { token } = theme.useToken();
  const { modal } = App.useApp();
  const queries = useQueryClient();
  const { pathname } = useLocation();
  const main = useRef<HTMLElement>(null);
  const before = useRef(pathname);
  useEffect(() => {
    document.title = titleOf(pathname);
    // Who goes on by keys or listens is at the new page's beginning, unless it has put them elsewhere.
    if (before.current !== pathname && !main.current?.contains(document.activeElement)) main.current?.focus({ preventScroll: true });
    before.current = pathname;
  }, [pathname]);
  const [{ times }, like] = useTaste();
  const zone = times === "of here" ? here : person.zone;
  tellIn(zone); // before anything within tells a time
  const health = useQuery(healthOf);
  const stream = useEvents();
  const newer = useNewer(stream === "lost");
  const likes = useQuery(kept);
  const known = likes.isSuccess;
  const taste = likes.data?.taste; // the same one while others of what is kept change
  useEffect(() => (known ? tasteFollows(taste, (now) => keep(queries, "taste", now)) : undefined), [known, taste, queries]);
  const bench = pathname.startsWith("/bench/");
  const nav = barOf(person);
  return (
    <div className={bench ? "frame bench-frame" : "frame"}>
      <header className="top" style={{ background: token.colorBgContainer }}>
        <Link to="/" className="top-name" style={{ color: token.colorText }}>
          {say.yardBench(<img src="/mark.svg" alt="" />, person.organisation && <span className="house">{person.organisation}</span>)}
        </Link>
        <nav aria-label={say.pages()}>
          {nav.map(({ path, name }) => (
            <NavLink key={path} to={path} style={({ isActive }) => ({ color: isActive ? token.colorText : token.colorLink, fontWeight: isActive ? 650 : 400 })}>
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
            if (unsaved > 0 && !(await modal.confirm({ title: unsaved === 1 ? say.aFileIsWritten() : say.filesAreWrittenAnd(unsaved), content: say.whatIsKeptOf(), okText: say.signOutAndForget() }))) return;
            await kept?.forget();
            await signOut().catch(() => undefined); // it may have ended already
            queries.clear();
            location.assign(person.sign_out_at ?? "/");
          }}
        >
          {say.signOut()}
        </Button>
      </header>
      {health.data?.simulated && <Alert banner type="info" title={say.thisYardIsSimulated()} />}
      {health.data?.announcement && <Alert banner type="info" title={<Announced of={health.data.announcement} />} />}
      {health.data?.troubles
        ?.filter((t) => t.grave || may(person, "rules.change"))
        .map((t) => (
          <Alert key={t.kind} banner type={t.grave ? "error" : "warning"} title={say.since(when(t.since), t.text)} />
        ))}
      {person.expiring?.map((t) => (
        <Alert key={t.id} banner type="warning" title={t.door === "ssh" ? say.yourKeyForSsh(t.name, when(t.expires_at), <Link to="/you">{say.removeItAndAdd()}</Link>) : say.yourTokenExpiresAnd(t.name, when(t.expires_at), <Link to="/you">{say.makeAnother()}</Link>)} />
      ))}
      {(person.aging_secrets?.length ?? 0) > 0 && <Alert banner type="warning" title={say.secretsAge(person.aging_secrets?.map((s) => s.name) ?? [], <Link to="/secrets">{say.setThemAnew()}</Link>)} />}
      {person.access_until && <Alert banner type="info" title={say.yourAccessEnds(when(person.access_until))} />}
      {person.ending_guests?.map((g) => (
        <Alert key={g.name} banner type="warning" title={say.theAccessOfEnds(g.name, when(g.until), <Link to="/people">{say.extendIt()}</Link>)} />
      ))}
      {stream === "late" && <Alert banner type="info" title={say.nothingWasHeardOf()} />}
      {stream === "lost" && <Alert banner type="warning" title={say.theEventStreamIs()} />}
      {stream === "refused" && <Alert banner type="error" title={say.theServiceRefusesThe()} />}
      {newer && (
        <Alert
          banner
          type="info"
          title={say.aNewerReleaseOf()}
          action={
            <Button size="small" type="primary" onClick={() => location.reload()}>
              {say.loadIt()}
            </Button>
          }
        />
      )}
      <main ref={main} tabIndex={-1} className={bench ? "page bench-page" : "page"}>
        <Boundary key={`${pathname} ${zone}`}>
          <Suspense fallback={<Spin />}>
            <Routes>
              <Route path="/" element={<Navigate to={nav[0]?.path ?? "/mine"} replace />} />
              {rooms.map(({ path, needs, page: Page }) => (
                <Route key={path} path={path} element={may(person, ...needs) ? <Page person={person} /> : <ProblemNote error={new Problem(403, say.yourRoleHasNot(person.role), say.askAnOperator())} />} />
              ))}
              <Route path="*" element={<ProblemNote error={new Problem(404, say.thereIsNoPage(), say.chooseOneOfThe())} />} />
            </Routes>
          </Suspense>
        </Boundary>
      </main>
      {!bench && (
        <footer className="quiet small">
          {say.timesAreOf(zone, zone === person.zone)}
          {here !== person.zone && (
            <Button type="link" size="small" style={{ fontSize: "inherit" }} onClick={() => like({ times: zone === here ? "of the house" : "of here" })}>
              {say.tellThemIn(zone === here ? person.zone : here)}
            </Button>
          )}
        </footer>
      )}
    </div>
  );
}

/** Whether another release is served than this page is of: asked when the service is there again after it was not. */
function useNewer(lost: boolean): boolean {
  const [newer, setNewer] = useState(false);
  const away = useRef(false);
  useEffect(() => {
    if (lost) {
      away.current = true;
      return;
    }
    if (!away.current) return;
    away.current = false;
    void renewed().then((is) => is && setNewer(true));
  }, [lost]);
  return newer;
}
