export const goingOnTo = (address: string) => `Going on to ${address}…`;
