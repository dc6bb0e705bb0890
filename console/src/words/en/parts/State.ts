export const failedIn = (failedIn: string | undefined) => `failed in ${failedIn}`;
