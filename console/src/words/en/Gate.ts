export const itIsTriedAgain = () => "It is tried again.";
export const oneMoment = () => "one moment";
