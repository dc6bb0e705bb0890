import type { ReactNode } from "react";

export const imageOf = (branch: string, number: number, started: string) => `${branch}: image ${number} of ${started}`;
export const noneServesYet = (branch: string) => `${branch}: none serves yet`;
export const onPush = () => "on push";
export const byTimetableNext = (timetable: string, next?: string) => `by timetable ${timetable}${next ? `, next ${next}` : ""}`;
export const byHand = () => "by hand";
export const planOf = (repository: string, branch: string) => `Plan of ${repository}, ${branch}`;
export const theLastGoodAre = (bold: ReactNode, triggers: string, keep: number, madeBy: string) => (
  <>
    {bold}: {triggers}; the last {keep} good are kept; by {madeBy}
  </>
);
export const prepareNow = () => "Prepare now";
export const change = () => "Change";
export const removeThePlanOf = (repository: string, branch: string) => `Remove the plan of ${repository}, ${branch}?`;
export const itsPreparedImagesGo = () => "Its prepared images go with it; launches begin from scratch.";
export const remove = () => "Remove";
export const aLaunchFromIt = (usual: string, scratch: string) => `A launch from it is usually ready in ${usual}, one from scratch in ${scratch}.`;
export const noRunYet = () => "No run yet.";
export const run = () => "Run";
export const begun = () => "Begun";
export const took = () => "Took";
export const outcome = () => "Outcome";
export const commit = () => "Commit";
export const why = () => "Why";
export const underWay = () => "under way";
export const failed = () => "failed";
export const doneServes = () => "done, serves";
export const doneDropped = () => "done, dropped";
export const prepareImagesOfAhead = (repository: string) => `Prepare images of ${repository} ahead`;
export const changeThePlan = () => "Change the plan";
export const makeThePlan = () => "Make the plan";
export const branch = () => "Branch";
export const theDefaultBranch = () => "the default branch";
export const itsGitHostMust = () => "Its git host must tell of pushes: an operator makes the key.";
export const onEveryPush = () => "On every push";
export const byTheClock = () => "By the clock";
export const minuteHourDayOf = () => "Minute, hour, day of the month, month, day of the week; in the house's time zone. Empty for not.";
export const n30515 = () => "30 5 * * 1-5: on working days at 05:30";
export const n06EveryDay = () => "0 6 * * *: every day at 06:00";
export const n04EveryFour = () => "0 */4 * * *: every four hours";
export const notByTheClock = () => "not by the clock";
export const goodImagesToKeep = () => "Good images to keep";
