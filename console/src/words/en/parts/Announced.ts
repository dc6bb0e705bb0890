export const pauses = (what?: string, until?: string) => {
  const end = until ? ` until ${until}` : "";
  if (what === "launches") return `Nothing new is launched${end}; what there is goes on.`;
  if (what === "starts") return `Nothing is launched or started${end}; what runs goes on.`;
  if (what === "changes") return `Nothing is changed${end}; what runs is worked in.`;
  return "";
};
