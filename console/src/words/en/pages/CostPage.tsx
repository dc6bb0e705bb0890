import type { ReactNode } from "react";

export const active = () => "Active";
export const idle = () => "Idle";
export const idleWaste = () => "Idle waste";
export const storage = () => "Storage";
export const prebuilds = () => "Prebuilds";
export const total = () => "Total";
export const cost = () => "Cost";
export const downloadAsCsv = () => "Download as CSV";
export const month = () => "Month";
export const by = (v: string) => `by ${v}`;
export const ofItIdle = (bold: ReactNode, idle: string) => (
  <>
    {bold}, of it {idle} idle
  </>
);
export const only = () => "Only";
export const theWorkspace = () => "the workspace";
export const itsJournalOfThe = () => "its journal of the time";
export const nothingWasUsedIn = () => "Nothing was used in this time.";
export const daysAreThoseOf = () => "Days are those of the house. What goes on counts up to now.";
export const prebuildsAndPeopleWithout = () => "prebuilds, and people without a team";
export const idleWaste2 = () => "idle waste";
export const costOfEachDay = (month: string) => `Cost of each day of ${month}`;
