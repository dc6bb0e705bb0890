import type { ReactNode } from "react";

export const memoryDiskItDoes = (cores: string, memory: string, disk: string, over: string | undefined) => `${cores}, ${memory} memory, ${disk} disk${over ? `; it does not fit now: ${over}` : ""}`;
export const anHour = (hour: string) => `${hour} an hour`;
export const tooLargeNow = () => ", too large now";
export const launchAWorkspace = () => "Launch a workspace";
export const repository = () => "Repository";
export const chooseARepository = () => "Choose a repository";
export const noRepositoryIsRegistered = () => "No repository is registered yet; an operator does so with: yardbench repository add ADDRESS";
export const branch = () => "Branch";
export const theDefault = (defaultBranch: string) => `${defaultBranch}, the default`;
export const theRepositorysDefault = () => "the repository's default";
export const pullRequest = (request: number, subject: string) => `pull request ${request} ${subject}`;
export const pullRequestOfRequest = (request: number, subject: string) => `pull request ${request}: ${subject}`;
export const prepared = () => ", prepared";
export const preparedAtAnOlder = () => ", prepared, at an older commit";
export const definition = () => "Definition";
export const theFirst = () => "the first";
export const besideIt = () => "Beside it";
export const furtherRepositoriesClonedSide = () => "Further repositories, cloned side by side; NAME@BRANCH names a branch.";
export const none = () => "none";
export const name = () => "Name";
export const lowerCaseLettersDigits = () => "Lower-case letters, digits and dashes. Yours to choose; nobody else's names are in the way.";
export const orWithANumber = (name: string) => `${name}, or with a number where that is taken`;
export const theRepositorys = () => "the repository's";
export const size = () => "Size";
export const putToRest = () => "Put to rest";
export const closingAWindowIs = () => "Closing a window is not stopping: without typing, read output, requests to its ports or a busy processor for so long, it is stopped.";
export const afterTheUsualTimeOfRestAfter = (restAfter: string) => `after ${restAfter}, the usual time`;
export const afterTheUsualTime = () => "after the usual time";
export const afterWithoutWork = (s: string) => `after ${s} without work`;
export const launch = () => "Launch";
export const copyTheLinkTo = () => "Copy the link to this choice";
export const copied = () => "Copied";
export const aLinkToThis = () => "a link to this choice";
export const lookingAtTheRepository = () => "Looking at the repository…";
export const chooseARepositoryAnd = () => "Choose a repository, and this says what its launch will come to.";
export const youHaveOfThis = (name: string, phase: string) => `You have ${name} of this branch already: it is ${phase}.`;
export const startItAndGo = () => "Start it and go on";
export const goOnInIt = () => "Go on in it";
export const beforeTheLaunch = () => "Before the launch";
export const makes = () => "Makes";
export const pullRequestAtBy = (request: number | undefined, branch: string, code: ReactNode, definition: ReactNode, image: string, setUp: ReactNode) => (
  <>
    {request ? `pull request ${request}` : branch} at {code}, by {definition}, image from {image}
    {setUp}
  </>
);
export const whatIsUsualHave = (link: ReactNode) => <>what is usual ({link} have definitions to begin from)</>;
export const starters = () => "starters";
export const then = (setUp: string) => `; then ${setUp}`;
export const services = () => "Services";
export const needs = () => "Needs";
export const prepared2 = () => "Prepared";
export const imageOfAtThe = (good: ReactNode, number: number, made: string, behind: number) => (
  <>
    {good} image {number} of {made}, {behind === 0 ? "at the branch's head" : `${behind} commits behind, brought in at the launch`}
  </>
);
export const fromScratch = (attention: ReactNode, scratch: ReactNode) => (
  <>
    {attention} from scratch: {scratch}
  </>
);
export const readyIn = () => "Ready in";
export const usually19Of20 = (usual: string, slow: string) => `${usual} usually; 19 of 20 within ${slow}`;
export const notKnownNobodyHas = () => "not known: nobody has launched it so yet";
export const costs = () => "Costs";
export const anHourItsDisk = (hour: string) => `${hour} an hour, its disk with it`;
export const findings = () => "Findings";
export const secrets = () => "Secrets";
export const itGetsNoneAnd = (attention: ReactNode, request: number) => (
  <>
    {attention} it gets none, and its pushes wait for you: what is in pull request {request} may be anybody's
  </>
);
export const nothingThatIsAsked = (good: ReactNode) => <>{good} nothing that is asked for is missing</>;
export const isMissing = (attention: ReactNode, code: ReactNode, description: ReactNode, button: ReactNode) => (
  <>
    {attention} {code} is missing{description} {button}
  </>
);
export const giveIt = () => "Give it";
export const noLimitApplies = () => "No limit applies.";
export const limit = () => "Limit";
export const usedAskedOfAllowed = () => "Used + asked of allowed";
export const itWouldBeRefused = () => "It would be refused: a limit is exceeded. Stop or remove one of yours, or ask an operator for more.";
