export const noTerminalCouldBe = () => "no terminal could be opened";
