import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Problem } from "../api/client";
import { signIn as ask } from "../service/session";
import * as say from "words/pages/SignInPage";

/** Where everybody begins. It is kept small: without antd, which comes while a name is typed. */
export function SignInPage({ onSignedIn }: { onSignedIn: () => void }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useMutation({ mutationFn: () => ask({ name, password }), onSuccess: onSignedIn });
  return (
    <main className="narrow">
      <h1>{say.signInToYard()}</h1>
      <form
        className="lines"
        onSubmit={(e) => {
          e.preventDefault();
          signIn.mutate();
        }}
      >
        <label htmlFor="name">{say.name()}</label>
        <input id="name" required autoFocus autoComplete="username" autoCapitalize="none" spellCheck={false} value={name} onChange={(e) => setName(e.target.value)} />
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
      </form>
    </main>
  );
}
