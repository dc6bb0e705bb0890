export const theLogCannotBe = (status: number) => `the log cannot be read: ${status}`;
export const log = () => "Log";
export const nothingIsWrittenYet = () => "nothing is written yet";
