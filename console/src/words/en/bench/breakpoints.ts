export const stopsWhere = (condition: string) => `stops where ${condition}`;
export const stopsHere = () => "stops here";
export const stopInLineWhere = (line: number) => `Stop in line ${line} where`;
export const set = () => "set";
