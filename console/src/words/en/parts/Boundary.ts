export const aNewerReleaseOf = () => "A newer release of the console is served.";
export const thisPageCouldNot = () => "This page could not be shown.";
export const loadItToGo = () => "Load it to go on; nothing that was sent is lost.";
export const loadIt = () => "Load it";
export const loadItAgain = () => "Load it again";
