import type { ReactNode } from "react";

export const giveUpThisChange = (path: string) => `Give up this change of ${path}?`;
export const itIsGoneThen = () => "It is gone then: nothing else has it.";
export const giveItUp = () => "Give it up";
export const asItWouldBe = () => "as it would be committed";
export const asItIsIn = () => "as it is in the folder";
export const openTheFile = () => "Open the file";
export const unstageAllOfIt = () => "Unstage all of it";
export const stageAllOfIt = () => "Stage all of it";
export const itIsNoText = () => "It is no text: it is taken as a whole.";
export const nothingOfItIs = () => "Nothing of it is staged.";
export const nothingOfItIsLeft = () => "Nothing of it is left to be staged.";
export const line = (newStart: number) => `Line ${newStart}`;
export const lineOfNewStart = (newStart: number, about: ReactNode) => (
  <>
    line {newStart}
    {about}
  </>
);
export const giveUp = () => "Give up";
export const unstage = () => "Unstage";
export const stage = () => "Stage";
export const thereIsMoreThan = () => "There is more than is shown here.";
