export const theServiceDoesNot = () => "The service does not answer.";
export const checkThatItRuns = () => "Check that it runs; this page goes on by itself when it does.";
