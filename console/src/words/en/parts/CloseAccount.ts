export const closeTheAccountOf = (fullName: string) => `Close the account of ${fullName}?`;
export const theyAreSignedOut = () => "They are signed out everywhere and may not sign in. Their workspaces stay, with all that is in them.";
export const close = () => "Close";
export const nothingRuns = () => "Nothing of theirs runs.";
export const runs = (names: string[], hour: string) => `Of theirs there runs, at ${hour} an hour: ${names.slice(0, 12).join(", ")}${names.length > 12 ? `, and ${names.length - 12} more` : ""}.`;
export const stopThem = () => "Stop it too; the files stay";
export const wasClosed = (name: string) => `the account of ${name} was closed`;
