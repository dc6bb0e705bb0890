import type { ReactNode } from "react";

export const myWorkspaces = () => "My workspaces";
export const launchAWorkspace = () => "Launch a workspace";
export const launchAgain = () => "Launch again";
export const anHourUsually = (hour: string, usual: number, usual2: string, refused: ReactNode) => (
  <>
    {hour} an hour{usual > 0 && `; usually ${usual2}`}
    {refused}
  </>
);
export const itWouldBeRefused = () => "; it would be refused now";
export const launch = () => "Launch";
export const lookAtItFirst = () => "Look at it first";
export const anHourMoreFrom = () => "an hour more, from the page of workspaces";
export const changed = (uncommitted: number) => `${uncommitted} changed`;
export const notPushed = (unpushed: number) => `${unpushed} not pushed`;
export const heldUntil = (heldUntil: string) => `held until ${heldUntil}`;
export const rests = (stops: string) => `rests ${stops}`;
export const n1HKeepFrom = (name: string) => `+1 h: keep ${name} from rest for an hour`;
export const n1H = () => "+1 h";
export const enter = () => "Enter";
export const look = () => "Look";
export const start = () => "Start";
export const stop = () => "Stop";
export const soFar = (cost: string) => `${cost} so far`;
export const usually = (usual: string) => `, usually ${usual}`;
