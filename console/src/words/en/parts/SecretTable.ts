export const name = () => "Name";
export const handedOverAs = () => "Handed over as";
export const formOf = (form: string, name: string, path?: string, mode?: string) => (form === "build" ? "a build secret of images" : form === "file" ? `a file ($${name}_FILE)${path ? `, at ${path}` : ""}${mode && mode !== "0400" ? `, ${mode}` : ""}` : `$${name}`);
export const givenTo = () => "Given to";
export const reach = (level: string, everywhere: boolean, repositories: string[], branches: string[]) => {
  const to = level === "repository" ? "everybody who works in it" : everywhere ? ({ person: "all my workspaces", team: "all its people" }[level] ?? "everybody") : repositories.join(", ");
  return branches.length > 0 ? `${to}, on ${branches.join(", ")}` : to;
};
export const whenBy = (at: string, by?: string) => (by ? `${at} by ${by}` : at);
export const lastUsed = () => "Last used";
export const never = () => "never";
export const version = () => "Version";
export const set = () => "Set";
export const removeOfName = (name: string) => `Remove ${name}?`;
export const terminalsAndRunsOpened = () => "Terminals and runs opened from now on do not have it.";
export const remove = () => "Remove";
