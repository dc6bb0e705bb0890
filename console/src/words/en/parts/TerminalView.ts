export const terminal = (label: string) => `Terminal ${label}. F6 leaves it`;
export const whatWasPrinted = () => "\r\n\u001b[7m What was printed before is not kept any more. \u001b[0m\r\n";
export const theShellHasEnded = () => "The shell has ended.";
export const theConnectionIsLost = () => "The connection is lost. What runs in the terminal goes on; it is being connected again.";
export const openAgain = () => "Open again";
export const atThisTerminal = () => "At this terminal:";
export const whatThisTerminalPrints = () => "What this terminal prints is recorded.";
export const findInTheTerminal = () => "Find in the terminal";
export const findEnterBeforeShift = () => "Find; Enter: before, Shift-Enter: after";
