import type { ReactNode } from "react";

export const yardBench = (img: ReactNode, organisation: ReactNode) => (
  <>
    {img} Yard Bench{organisation}
  </>
);
export const pages = () => "Pages";
export const aFileIsWritten = () => "A file is written and not saved";
export const filesAreWrittenAnd = (unsaved: number) => `${unsaved} files are written and not saved`;
export const whatIsKeptOf = () => "What is kept of them in this browser is forgotten when you sign out: somebody else may be at it next.";
export const signOutAndForget = () => "Sign out and forget it";
export const signOut = () => "Sign out";
export const thisYardIsSimulated = () => "This yard is simulated: nothing really runs in its workspaces.";
export const since = (since: string, text: string) => `Since ${since} ${text}.`;
export const yourKeyForSsh = (name: ReactNode, expires: string, link: ReactNode) => (
  <>
    Your key “{name}” for SSH lets you in until {expires}. {link}, or another.
  </>
);
export const removeItAndAdd = () => "Remove it and add it again";
export const yourTokenExpiresAnd = (name: ReactNode, expires: string, link: ReactNode) => (
  <>
    Your token “{name}” expires {expires}. {link} and give it to its program.
  </>
);
export const makeAnother = () => "Make another";
export const secretsAge = (names: string[], link: ReactNode) => (
  <>
    {names.length === 1 ? `The secret ${names[0]} was set long ago.` : `${names.length} secrets were set long ago: ${names.slice(0, 5).join(", ")}${names.length > 5 ? " and others" : ""}.`} {link}.
  </>
);
export const setThemAnew = () => "Set them anew where they come from, and here";
export const yourAccessEnds = (at: string) => `You are a guest here until ${at}.`;
export const theAccessOfEnds = (name: string, at: string, link: ReactNode) => (
  <>
    The access of {name}, a guest, ends {at}. {link}, or let it end.
  </>
);
export const extendIt = () => "Extend it";
export const nothingWasHeardOf = () => "Nothing was heard of the service for half a minute: what you see may be a little old.";
export const theEventStreamIs = () => "The event stream is lost: what you see may be old. It is being connected again.";
export const theServiceRefusesThe = () => "The service refuses the event stream: what you see is as it was when it was read. It is asked again.";
export const aNewerReleaseOf = () => "A newer release of the console is served. What you wrote and did not save in a bench is kept.";
export const loadIt = () => "Load it";
export const thereIsNoPage = () => "There is no page at this address.";
export const chooseOneOfThe = () => "Choose one of the pages above.";
export const yourRoleHasNot = (role: string) => `This page is not for your role, ${role}.`;
export const askAnOperator = () => "Choose one of the pages above, or ask an operator.";
export const timesAreOf = (zone: string, house: boolean) => (house ? `Times are those of the house: ${zone}.` : `Times are those of ${zone}, your zone. What the house counts by days counts its own.`);
export const tellThemIn = (zone: string) => `Tell them in ${zone}`;
