export const nothingListensWhatBegins = () => "Nothing listens. What begins to shows here within seconds.";
export const onLoopbackOnly = () => ", on loopback only";
export const nothingListens = () => "nothing listens";
export const inATab = () => "In a tab";
