export const loadPortAgain = (port: number) => `Load port ${port} again`;
export const path = () => "Path";
export const inATab = () => "In a tab";
export const nothingListensOnPort = (port: number, phase: boolean) => `Nothing listens on port ${port}${phase ? ". Start the program in a terminal: its page comes here then." : ": the workspace is not ready."}`;
export const portOf = (port: number, name: string) => `Port ${port} of ${name}`;
