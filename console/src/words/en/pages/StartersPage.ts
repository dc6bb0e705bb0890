export const starters = () => "Starters";
export const repositories = () => "Repositories";
export const readyDefinitionsForNew = () => "Ready definitions for new projects. Choose, look at the files, and write them into your tree with the command.";
export const lookInside = () => "Look inside";
export const itCannotBeUsed = (problem: string) => `It cannot be used: ${problem}`;
export const toChoose = (options: string) => `To choose: ${options}`;
export const nothingToChoose = () => "Nothing to choose";
