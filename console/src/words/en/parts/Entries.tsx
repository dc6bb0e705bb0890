import type { ReactNode } from "react";

export const no = () => "No.";
export const timeUtc = () => "Time, UTC";
export const time = () => "Time";
export const what = () => "What";
export const of = () => "Of";
export const by = () => "By";
export const details = () => "Details";
export const nothingIsWrittenThat = () => "Nothing is written that fits what you look for.";
export const shownBackTo = (rows: number, when: string) => (
  <>
    {rows} shown{rows > 0 && `, back to ${when}`}
  </>
);
export const olderOnes = () => "Older ones";
export const thereAreNoOlder = () => "There are no older ones.";
export const ofOfOwner = (owner: ReactNode) => <> of {owner}</>;
export const nameAndVersion = (name: string, version: number) => `${name} version ${version}`;
