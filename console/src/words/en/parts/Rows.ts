export const chooseAllThatFit = () => "Choose all that fit";
export const chooseIt = () => "Choose it";
