export const launchIt = () => "Launch it";
export const enterIt = () => "Enter it";
export const startAndEnter = () => "Start it, and enter";
export const aLinkOf = (by: string, repository: string) => `a launch link of ${by}: a workspace of your own, of ${repository}`;
export const youHave = (name: string, phase: string) => `You have ${name} by this link: it is ${phase}.`;
