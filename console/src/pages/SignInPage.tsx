import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useLocation, useSearchParams } from "react-router";
import { Problem } from "../api/client";
import { doors as doorsOf, health as healthOf, signIn as ask } from "../service/session";
import { guestKey, offerOf } from "../service/people";
import { hasPasskeys, signInByPasskey } from "../service/passkeys";
import { Announced } from "../parts/Announced";
import * as say from "words/pages/SignInPage";

/** Where everybody begins. It is kept small: without antd, which comes while a name is typed. */
export function SignInPage({ onSignedIn }: { onSignedIn: () => void }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const { pathname } = useLocation();
  const [search, setSearch] = useSearchParams();
  const doors = useQuery(doorsOf);
  const health = useQuery(healthOf);
  const link = /^\/go\/([a-z2-7]+)$/.exec(pathname)?.[1];
  const guests = useQuery({ ...offerOf(guestKey + link), enabled: !!link });
  const signIn = useMutation({
    mutationFn: () => ask({ name, password }),
    onSuccess: () => {
      setSearch((old) => (old.delete("refused"), old), { replace: true });
      onSignedIn();
    },
  });
  const byPasskey = useMutation({
    mutationFn: signInByPasskey,
    onSuccess: () => {
      setSearch((old) => (old.delete("refused"), old), { replace: true });
      onSignedIn();
    },
  });
  const refused = search.get("refused");
  const to = new URLSearchParams(search);
  to.delete("refused");
  const here = pathname + (to.size ? `?${to}` : "");
  const providers = doors.data?.providers ?? [];
  return (
    <main className="narrow">
      <h1>{say.signInToYard()}</h1>
      {health.data?.announcement && (
        <p role="status">
          <Announced of={health.data.announcement} />
        </p>
      )}
      {refused && !signIn.isPending && !signIn.error && <p role="alert">{say.refused(refused)}</p>}
      {providers.map((p) => (
        <a key={p.name} className="door" href={`${p.begin}?to=${encodeURIComponent(here)}`}>
          {say.signInBy(p.title)}
        </a>
      ))}
      {providers.length > 0 && <p className="quiet">{doors.data?.passwords ? say.orByAPassword() : say.operatorsOnly()}</p>}
      <form
        className="lines"
        onSubmit={(e) => {
          e.preventDefault();
          signIn.mutate();
        }}
      >
        <label htmlFor="name">{say.name()}</label>
        <input id="name" required autoFocus={doors.isSuccess && providers.length === 0} autoComplete="username" autoCapitalize="none" spellCheck={false} value={name} onChange={(e) => setName(e.target.value)} />
        <label htmlFor="password">{say.password()}</label>
        <input id="password" type="password" required autoComplete="current-password" value={password} onChange={(e) => setPassword(e.target.value)} />
        {signIn.error && (
          <p role="alert">
            {signIn.error.message}
            {signIn.error instanceof Problem && signIn.error.next && `; ${signIn.error.next}`}
          </p>
        )}
        <button type="submit" disabled={signIn.isPending}>
          {say.signIn()}
        </button>
        {doors.data?.passkeys && hasPasskeys() && (
          <button type="button" className="other" disabled={byPasskey.isPending} onClick={() => byPasskey.mutate()}>
            {say.byAPasskey()}
          </button>
        )}
        {byPasskey.error && <p role="alert">{byPasskey.error instanceof Problem ? byPasskey.error.message : say.noPasskey()}</p>}
      </form>
      {guests.data && (
        <p>
          {say.noAccountHere()} <a href={`/enrol#${guestKey}${link}`}>{say.comeInAsAGuest(guests.data.team ?? "")}</a>
        </p>
      )}
    </main>
  );
}
