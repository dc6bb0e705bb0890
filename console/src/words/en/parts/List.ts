export const columns = () => "Columns";
export const chosenOfThatFit = (of: number, shown: number) => `${of} chosen of ${shown} that fit`;
export const chooseAllThatFit = () => "Choose all that fit";
export const none = () => "None";
export const nothingFitsWhatYou = () => "Nothing fits what you look for.";
export const whatWasFound = () => "What was found";
export const find = () => "Find";
