export const thisWasNotDone = () => "This was not done";
