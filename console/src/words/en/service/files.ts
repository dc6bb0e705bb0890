export const theServiceDoesNot = () => "The service does not answer.";
export const whatYouWroteIs = () => "What you wrote is kept here; try again.";
