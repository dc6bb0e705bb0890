import type { ReactNode } from "react";

export const letAProgramIn = () => "Let a program in";
export const typeTheCode = () => "The command line shows a code, where it has no browser beside it: type that here.";
export const theCodePlease = () => "The code, please";
export const code = () => "Code";
export const look = () => "Look";
export const itIsIn = () => "It is let in: go back to your terminal.";
export const itIsNotLetIn = () => "It is not let in.";
export const theProgram = () => "The program";
export const aProgram = () => "a program without a name";
export const asksToBeLetIn = (client: ReactNode, place: string, here: boolean, name: string) => (
  <>
    {client} at {place}
    {here ? ", from where you are," : ""} asks to be let in as {name}. It may then do all that you may.
  </>
);
export const onlyIfYouBegan = () => "Let it in only if you began this yourself, a moment ago: nobody who means well sends you a code.";
export const letItIn = () => "Let it in";
export const itWasNotMe = () => "It was not me";
export const likeThis = () => "TKLM-VRQB";
