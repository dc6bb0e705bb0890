export const terminalOf = (label: string, ref: string) => `Terminal ${label} of ${ref}`;
export const untilYouMayType = (until: string, owner: string) => `until ${until} you may type, too: what you do is done as ${owner}`;
export const untilYouMayLook = (until: string) => `until ${until} you may look; what you type goes nowhere`;
