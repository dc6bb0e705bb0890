import type { ReactNode } from "react";

export const start = () => "Start";
export const theyComeUpAgain = () => "They come up again, within their owners' limits.";
export const stop = () => "Stop";
export const theirFilesStayWhat = () => "Their files stay. What runs in them ends.";
export const rebuild = () => "Rebuild";
export const eachGetsAContainer = () => "Each gets a container from its branch's head; the old one stays in use until the new one runs.";
export const hold = () => "Hold";
export const theyAreNotPut = () => "They are not put to rest for a time.";
export const letRest = () => "Let rest";
export const holdsEndTheyAre = () => "Holds end; they are put to rest as the house rules say.";
export const tellTheOwners = () => "Tell the owners";
export const whatYouWriteStands = () => "What you write stands beside each workspace until its owner has read it.";
export const remove = () => "Remove";
export const withAllFilesOne = () => "With all files. One with work that exists nowhere else is left as it is, unless you give that up.";
export const withChosen = (chosen: number, downOutlined: ReactNode) => (
  <>
    With {chosen} chosen {downOutlined}
  </>
);
export const workspaces = (meant: number) => `${meant} workspaces`;
export const close = () => "Close";
export const andMore = (meant: number) => ` and ${meant} more`;
export const forHours = (inputNumber: ReactNode) => <>For {inputNumber} hours</>;
export const hours = () => "Hours";
export const reason = () => "Reason";
export const whatTheyShouldKnow = () => "What they should know";
export const why = () => "Why";
export const whyForTheOwners = () => "Why, for the owners and the journal";
export const giveUpWorkThat = () => "Give up work that exists nowhere else";
