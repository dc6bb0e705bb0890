import type { ReactNode } from "react";

export const launchSheet = () => "Launch sheet";
export const begunUnderWayFor = (kind: string, tooltip: ReactNode, running: boolean, outcome: ReactNode, part: ReactNode) => (
  <>
    {kind}, begun {tooltip}, {running ? "under way for" : outcome + " in"} {part}
  </>
);
export const usually19Of20 = (usual: string, took: string) => `usually ${usual}; 19 of 20 within ${took}`;
export const cached = () => "cached";
export const usually = (usual: string) => `usually ${usual}`;
export const failed = () => "failed";
export const interrupted = () => "interrupted";
export const attempt = (attempt: number) => ` attempt ${attempt}`;
export const itWaits = (why: string) => `It waits: ${why}`;
