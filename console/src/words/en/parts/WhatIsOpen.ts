export const whatIsOpen = () => "What is open";
export const of = () => "Of";
export const howItIsClosed = () => "How it is closed";
