export const theAdapterDoesNot = (command: string) => `the adapter does not answer ${command}`;
export const theAdapterRefuses = () => "the adapter refuses";
export const notKnownHere = () => "not known here";
export const itEndedWith = (code: number) => `
it ended with ${code}
`;
export const youEndedIt = () => "you ended it";
export const itIsOver = () => "it is over";
