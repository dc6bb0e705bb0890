export const prebuildRun = () => "Prebuild run";
export const repositoriesAndPrebuilds = () => "Repositories and prebuilds";
export const launchSheet = () => "Launch sheet";
export const log = () => "Log";
