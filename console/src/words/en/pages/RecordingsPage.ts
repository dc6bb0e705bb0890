export const recordings = () => "Recordings";
export const whatTerminalsPrintedWhere = () => "what terminals printed, where the house rules have it kept";
