export const name = () => "Name";
export const handedOverAs = () => "Handed over as";
type Form = { form: string; name: string; path?: string; mode?: string; registry?: string; username?: string; prebuilds?: boolean };
export const formOf = (s: Form) => {
  switch (s.form) {
    case "build":
      return "a build secret of images";
    case "registry":
      return `signs in to ${s.registry} as ${s.username}`;
  }
  const form = s.form === "file" ? `a file ($${s.name}_FILE)${s.path ? `, at ${s.path}` : ""}${s.mode && s.mode !== "0400" ? `, ${s.mode}` : ""}` : `$${s.name}`;
  return form + (s.prebuilds ? ", in prebuilds too" : "");
};
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
