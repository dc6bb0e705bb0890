import type { ReactNode } from "react";

export const whichLaunchSheet = () => "Which launch sheet";
export const underWay = () => "under way";
export const of = (owner: string) => ` of ${owner}`;
export const comeIn = () => "Come in…";
export const bench = () => "Bench";
export const countedUnder = () => "Counted under";
export const container = () => "Container";
export const startedByOthersAnd = (adopted: string) => `${adopted}, started by others and taken on`;
export const repository = () => "Repository";
export const branchMadeFrom = (repository: string, branch: string, code: ReactNode) => (
  <>
    {repository}, branch {branch}, made from {code}
  </>
);
export const definition = () => "Definition";
export const noneWhatIsUsual = () => "none: what is usual";
export const folder = () => "Folder";
export const asTheImagesUser = (folder: string, user: string) => `${folder} as ${user || "the image's user"}`;
export const ssh = () => "SSH";
export const image = () => "Image";
export const prepared = () => "Prepared";
export const imageOfAtThe = (number: number, made: string, behind: number) => `image ${number} of ${made}, ${behind === 0 ? "at the branch's head then" : `${behind} commits behind then`}`;
export const fromScratch = (scratch: string) => `from scratch${scratch}`;
export const takenOn = () => "Taken on";
export const launched = () => "Launched";
export const size = () => "Size";
export const memoryOfItsDisk = (size: string, cores: string, memory: string, diskUsed: number, diskUsed2: string, adopted: string | undefined, disk: string) => (
  <>
    {size}: {cores}, {memory} memory, {diskUsed > 0 && `${diskUsed2} of `}
    {adopted ? "its disk not counted" : `${disk} disk`}
  </>
);
export const cost = () => "Cost";
export const soFarOfIt = (cost: string, idle: string, hour: string) => `${cost} so far, ${idle} of it idle; ${hour} an hour`;
export const last24Hours = () => "Last 24 hours";
export const isRemoved = () => "Is removed";
export const rest = () => "Rest";
export const unlessWorkInIt = (removes: string) => `${removes}, unless work in it exists nowhere else`;
export const itIsPutTo = (stops: string, lastSign: string, lastSign2: string) => `It is put to rest at ${stops}: ${lastSign} at ${lastSign2}, and nothing since.`;
export const typeSomethingOrHold = () => "Type something, or hold it.";
export const itFailedIn = (failedIn: string | undefined, cause: string | undefined) => `It failed in ${failedIn}: ${cause}`;
export const startTriesItAgain = () => "Start tries it again; after a push, Rebuild takes the branch's head.";
export const launchSheet = () => "Launch sheet";
export const log = () => "Log";
export const services = () => "Services";
export const ports = () => "Ports";
export const secrets = () => "Secrets";
export const journal = () => "Journal";
export const iHaveReadIt = () => "I have read it";
export const somethingInItWanted = (since: string) => `something in it wanted to push (${since})`;
export const ifThatWasYou = () => "If that was you, allow it and push again. Nothing in the workspace can allow it itself.";
export const aProgramWaitsFor = (name: ReactNode, since: string) => (
  <>
    a program in it waits for {name} (since {since})
  </>
);
export const theProgramSays = (says: string) => `The program says: “${says}”`;
export const whyItIsAbsent = (why: string) => `It is not given here: ${why}. Give it only if you know what asks for it.`;
export const giveIt = () => "Give it";
export const allowFor15Min = () => "Allow for 15 min";
export const refuse = () => "Refuse";
export const endIt = () => "End it";
export const theWorkspaceIsThere = () => "The workspace is there to be used; the log has the whole output.";
export const itGoesOnAs = () => "It goes on as it is; Rebuild makes it anew and keeps its files.";
export const secretsChanged = (who: string) => `secrets changed: ${who}`;
export const whatIsOpenedFrom = () => "What is opened from now on has the new values: end the old ones and open them again. What the definition started can be begun anew here.";
export const beginAnew = () => "Begin anew";
export const begunAnew = (of: { command: string; code?: number; problem?: string }[]) =>
  of.length === 0 ? "The definition has left nothing running at its start." : of.map((c) => (c.problem ? `${c.command} cannot be run: ${c.problem}` : c.code ? `${c.command} ended with exit code ${c.code}` : `${c.command} was begun anew`)).join("; ");
export const whatIsWrittenFails = () => "What is written fails until there is room again.";
export const endWhatIsNot = () => "End what is not needed, or launch one of a larger size.";
export const makeRoomInIts = () => "Make room in its folder, or ask for a larger size.";
export const startItAndPush = () => "Start it, and push or give up what is in it; it is not removed before.";
export const itIsNeverPut = () => "it is never put to rest";
export const atRest = () => "at rest";
export const heldUntil = (heldUntil: string, holdWhy: ReactNode) => (
  <>
    held until {heldUntil}: {holdWhy}
  </>
);
export const atPutToRest = (lastSign: string, lastSign2: string, stops: string) => `${lastSign} at ${lastSign2}; put to rest at ${stops} without another sign`;
export const service = () => "Service";
export const state = () => "State";
export const waitsFor = () => "Waits for";
export const openARowFor = () => "Open a row for what the service printed last.";
