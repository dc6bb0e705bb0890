export const comeInto = (name: string, owner: string) => `Come into ${name} of ${owner}`;
export const backToIt = () => "back to the workspace";
export const whatYouGet = (owner: string) => `You get a terminal of your own in it, with nothing that is ${owner}'s: no secrets, no git sign-in, no keys. ${owner} is told at once, sees the terminal among the workspace's, and may join it.`;
export const why = () => "Why";
export const isReadBy = (owner: string) => `${owner} reads it, and it is in the journal.`;
export const sayWhy = () => "Say why, in one line";
export const herBuildHangs = () => "the build hangs, and takes the yard's processors";
export const comeIn = () => "Come in";
export const youCameIn = (owner: string, reason: string) => `${owner} is told as you come in: ${reason}`;
