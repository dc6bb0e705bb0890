export const underWay = () => "under way";
export const cancelledBy = (cancelledBy: string) => ` · cancelled by ${cancelledBy}`;
export const leaveTheRestAlone = () => "Leave the rest alone";
export const workspace = () => "Workspace";
export const state = () => "State";
export const since = () => "Since";
export const why = () => "Why";
