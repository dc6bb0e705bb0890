import type { ReactNode } from "react";

export const foundInTheTree = () => ", found in the tree";
export const nothingHereSaysHow = (code: ReactNode) => <>Nothing here says how it is debugged: name a way in the definition, under {code}.</>;
export const nothingThatDebugsIs = () => "Nothing that debugs is in the workspace. To have it, add to the definition's build file:";
export const notUnderstood = (p: string) => `Not understood: ${p}`;
export const breakPoints = () => "Break points";
export const nonePressBesideA = () => "None: press beside a line's number, or Alt-P in it.";
export const stopAtNoMore = (path: string, line: number) => `Stop at ${path}:${line} no more`;
