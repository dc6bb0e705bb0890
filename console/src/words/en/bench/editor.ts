export const f6LeavesTheEditor = () => "F6 leaves the editor";
