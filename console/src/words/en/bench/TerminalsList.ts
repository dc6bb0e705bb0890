export const anotherTerminal = () => "Another terminal";
export const noneIsOpen = () => "None is open.";
export const since = (since: string) => `since ${since}`;
export const there = (lookers: string) => `, ${lookers} there`;
export const recorded = () => ", recorded";
export const letAColleagueLook = () => "Let a colleague look";
export const recordIt = () => "Record it";
