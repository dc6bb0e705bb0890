import type { ReactNode } from "react";

export const theDefinitionOf = (link: ReactNode) => <>The definition of {link}</>;
export const launchFromIt = () => "Launch from it";
export const whichDefinition = () => "Which definition";
export const theFirst = () => "the first";
export const anotherBranch = () => "another branch";
export const look = () => "Look";
export const branch = () => "Branch";
export const whatWasFound = () => "What was found";
export const at = (branch: ReactNode, code: ReactNode) => (
  <>
    {branch} at {code}
  </>
);
export const whatWasFoundOfFindings = (findings: number) => `What was found (${findings})`;
export const nothingIsWrongWith = () => "nothing is wrong with the definition";
export const whatItComesTo = () => "What it comes to";
export const whatALaunchDoes = () => "What a launch does";
export const whatTheBranchChanges = () => "What the branch changes";
export const itIsRefusedAnd = () => "It is refused, and comes to nothing.";
export const itRunsNothingOf = () => "It runs nothing of its own.";
export const when = () => "When";
export const what = () => "What";
export const as = () => "As";
export const where = () => "Where";
export const from = () => "From";
export const itComesToThe = () => "It comes to the same as the repository's own branch.";
export const dueWithIt = (bold: ReactNode) => <>Due with it: {bold}.</>;
export const value = () => "Value";
export const before = () => "Before";
export const none = () => "none";
export const onThisBranch = () => "On this branch";
export const is = () => "Is";
export const fingerprint = () => "Fingerprint";
export const beginsWith = () => "Begins with";
export const whichTheYardDoes = () => "which the yard does not have yet";
export const comesTo = () => "Comes to";
export const notBuiltYetWhat = () => "not built yet: what its image's label says is not in the table";
