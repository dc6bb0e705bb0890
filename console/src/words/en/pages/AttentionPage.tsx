import type { ReactNode } from "react";

export const attention = () => "Attention";
export const whatNeedsSomebodyBy = () => "what needs somebody, by cause: what holds up most people for longest is first";
export const nothingNeedsAnybody = () => "Nothing needs anybody.";
export const cause = () => "Cause";
export const quietUntilBy = (until: string, by: string, reason: string) => `quiet until ${until}, by ${by}: ${reason}`;
export const since = () => "Since";
export const haveIt = () => "Have it";
export const peopleWait = () => "People wait";
export const nobody = () => "nobody";
export const whatTheirLogsHave = () => "What their logs have in common";
export const whatWasChangedIn = () => "What was changed in the hour before";
export const by = (part: ReactNode, link: ReactNode, actorName: ReactNode) => (
  <>
    {part} {link} by {actorName}
  </>
);
export const whatHasIt = () => "What has it";
export const sinceOfSince = (since: string) => `since ${since}`;
export const andMore = (cases: number) => `and ${cases} more`;
export const itNeedsSomebodyAgain = () => "It needs somebody again";
export const quietForATime = () => "Quiet for a time";
export const itNeedsNobodyFor = () => "It needs nobody for a time";
export const quiet = () => "Quiet";
export const forHowManyHours = () => "For how many hours";
export const sayForHowLong = () => "Say for how long.";
export const why = () => "Why";
export const sayWhy = () => "Say why.";
