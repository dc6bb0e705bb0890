export const error = () => "error";
export const warning = () => "warning";
export const note = () => "note";
export const findings = () => "Findings";
export const why = (why: string) => `Why: ${why}`;
export const doIt = (fix: string) => `Do: ${fix}`;
