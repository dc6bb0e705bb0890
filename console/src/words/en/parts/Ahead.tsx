import type { ReactNode } from "react";

export const besideIt = () => "Beside it";
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
