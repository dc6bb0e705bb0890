export const done = () => "Done";
