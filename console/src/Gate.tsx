import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, type CSSProperties, type ReactNode } from "react";
import { useLocation } from "react-router";
import { Problem } from "./api/client";
import { useColours } from "./palette";
import { SignInPage } from "./pages/SignInPage";
import { Boundary } from "./parts/Boundary";
import { me } from "./service/session";
import * as say from "words/Gate";

const inside = () => import("./Inside");
const Frame = lazy(() => inside().then((m) => ({ default: m.Inside })));
const EnrolPage = lazy(() => import("./pages/EnrolPage").then((m) => ({ default: m.EnrolPage })));

/**
 * Who comes to the console: to set up an account, to sign in, or signed in already. What only the
 * last two need, antd with it, is in no way of the first page that everybody sees.
 */
export function Gate() {
  const colours = useColours();
  const queries = useQueryClient();
  const { pathname } = useLocation();
  const enrolling = pathname === "/enrol";
  const who = useQuery({ ...me, enabled: !enrolling });
  const signedOut = who.error instanceof Problem && who.error.status === 401;
  const coming = (what: ReactNode) => (
    <Boundary>
      <Suspense fallback={<Wait />}>{what}</Suspense>
    </Boundary>
  );
  const page = () => {
    if (enrolling) return coming(<EnrolPage />);
    if (who.isPending) return <Wait />;
    if (signedOut) return <SignInPage onSignedIn={() => queries.resetQueries()} />;
    if (who.data) return coming(<Frame person={who.data} />);
    return (
      <main className="narrow" role="alert">
        <h1>{who.error?.message}</h1>
        <p>{who.error instanceof Problem ? who.error.next : say.itIsTriedAgain()}</p>
      </main>
    );
  };
  const inks = Object.fromEntries(Object.entries(colours).map(([name, colour]) => [`--${name}`, colour])) as CSSProperties;
  return (
    <div className="ground" style={inks}>
      {page()}
    </div>
  );
}

function Wait() {
  return (
    <p className="wait" role="status">
      {say.oneMoment()}
    </p>
  );
}

// It comes while it is asked who is there.
void inside().catch(() => undefined);
