export const signInToYard = () => "Sign in to Yard Bench";
export const name = () => "Name";
export const password = () => "Password";
export const signIn = () => "Sign in";
