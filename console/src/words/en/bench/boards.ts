export const notStaged = () => "not staged";
export const debug = () => "Debug";
export const launchSheet = () => "Launch sheet";
export const log = () => "Log";
