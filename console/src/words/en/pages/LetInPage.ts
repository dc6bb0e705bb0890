export const letTheCommandLineIn = () => "Let the command line in";
export const itWaitsOnThisMachine = (name: string) => `yardbench waits in a terminal of this machine to be let in as ${name}. It may then do all that you may. If you began nothing like that, close this page.`;
export const letItIn = () => "Let it in";
