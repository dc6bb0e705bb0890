import type { ReactNode } from "react";

export const thisIsNoRecording = () => "This is no recording in asciicast, version 2.";
export const terminal = (workspace: string, owner: string, terminal: string) => `${workspace}.${owner}, terminal ${terminal}`;
export const recording = () => "Recording";
export const saveTheFile = () => "Save the file";
export const recordedItGoesOn = (began: string, ended: string | undefined, why: ReactNode) => (
  <>
    recorded {began}; {ended ? why : "it goes on"}
  </>
);
export const holdOn = () => "Hold on";
export const goOn = () => "Go on";
export const again = () => "Again";
export const howFast = () => "How fast";
export const ofSWithoutLong = (at: string, seconds: string) => `${at} of ${seconds} s, without long pauses`;
export const whereInTheRecording = () => "Where in the recording";
