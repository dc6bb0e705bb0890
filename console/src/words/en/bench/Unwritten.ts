export const bringItToThis = () => "Bring it to this machine";
export const aPartOfIt = (path: string) => `${path}, a part of it`;
export const toOfTooLarge = (bytes: string, bytes2: string, bytes3: string, line: number | undefined) => `${bytes} to ${bytes2} of ${bytes3}: too large to be written in here${line ? `; line ${line} is not looked for` : ""}`;
export const first = () => "First";
export const before = () => "Before";
export const after = () => "After";
export const last = () => "Last";
export const bringItHere = () => "Bring it here";
export const itCannotBeDrawn = () => "it cannot be drawn: it is no picture, or a broken one; ";
