export const aNewPasswordFor = (again: string) => `A new password for ${again}`;
export const setUpYourAccount = () => "Set up your account at Yard Bench";
export const thisLinkCannotBe = () => "This link cannot be used.";
export const youWillBeIn = (role: string, team: string | undefined, expires: string) => (
  <>
    You will be {role}
    {team && `, in the team ${team}`}. The link can be used until {expires}.
  </>
);
export const youWillBeGuest = (team: string, until: string) => `You will be a guest of the team ${team}, with access until ${until}.`;
export const nameToSignIn = () => "Name to sign in with";
export const aNamePlease = () => "A name, please";
export const lowerCaseLettersAnd = () => "Lower-case letters and digits, with dots and dashes between them";
export const theLinkIsForIt = () => "The link is for this name";
export const fullName = () => "Full name";
export const yourFullNamePlease = () => "Your full name, please";
export const itStandsOnYour = () => "It stands on your commits";
export const mailAddress = () => "Mail address";
export const yourAddressPlease = () => "Your address, please";
export const password = () => "Password";
export const aPasswordPlease = () => "A password, please";
export const atLeast8Characters = () => "At least 8 characters";
export const setThePassword = () => "Set the password";
export const setUpAndSign = () => "Set up and sign in";
