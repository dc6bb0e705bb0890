export const signInToYard = () => "Sign in to Yard Bench";
export const name = () => "Name";
export const password = () => "Password";
export const signIn = () => "Sign in";
export const byAPasskey = () => "Sign in with a passkey";
export const noPasskey = () => "The browser has shown no passkey.";
export const signInBy = (title: string) => `Sign in by ${title}`;
export const comeInAsAGuest = (team: string) => `Come in as a guest of ${team}`;
export const noAccountHere = () => "No account here?";
export const orByAPassword = () => "Or with a name and a password of this house";
export const operatorsOnly = () => "Operators have a password, for when that does not answer";

const refusals: Record<string, string> = {
  provider: "You were not let in: the identity provider refused it, has no place for you here, or said what is not to be believed.",
  "provider-away": "The identity provider does not answer now.",
  "too-many-attempts": "There were too many attempts.",
};

export const refused = (kind: string) => `${refusals[kind] ?? "You could not be signed in."} Try again; an operator can look at the service's log.`;
