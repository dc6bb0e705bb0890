import type { ReactNode } from "react";

export const whoMayLook = () => "Who may look";
export const atTerminal = () => "At terminal";
export const may = () => "May";
export const lookAndTypeAs = () => "look and type, as you";
export const until = () => "Until";
export const endItMayLook = (person: string) => `End it: ${person} may look no more`;
export const endIt = () => "End it";
export const letAColleagueLook = (label: string) => `Let a colleague look at the terminal ${label}`;
export const letThemLook = () => "Let them look";
export const theySeeWhatIt = () => "They see what it shows, also what it showed before, and nothing else of the workspace. You see that they are there.";
export const findsItOnTheir = (person: string) => `${person} finds it on their page of workspaces.`;
export const whoByTheirName = () => "Who, by their name here";
export const nameAColleague = () => "Name a colleague.";
export const forHowManyMinutes = () => "For how many minutes";
export const sayForHowLong = () => "Say for how long.";
export const whatTheyDoThen = () => "What they do then is done as you, with your secrets.";
export const theyMayTypeToo = () => "They may type, too";
export const letsYouLookAt = (owner: string, writes: boolean, terminal: string, workspace: string, tooltip: ReactNode) => (
  <>
    {owner} lets you {writes ? "look at and type into" : "look at"} the terminal {terminal} of {workspace} until {tooltip}.
  </>
);
export const look = () => "Look";
