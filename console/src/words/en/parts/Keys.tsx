import type { ReactNode } from "react";

export const keysForSsh = (part: ReactNode, button: ReactNode) => (
  <>
    Keys for SSH{part}
    {button}
  </>
);
export const addAKey = () => "Add a key";
export const noKeyIsNeeded = (part: ReactNode, code: ReactNode) => (
  <>
    {part}No key is needed for {code}, which has ssh and your editors find your workspaces.
  </>
);
export const theDoorIsAt = (address: string, code: ReactNode) => (
  <>
    The door is at {address}, known by {code}.{" "}
  </>
);
export const yardbenchSshConfigure = () => "yardbench ssh configure";
export const noKeyLetsYou = () => "No key lets you in yet.";
export const key = () => "Key";
export const withoutAComment = () => "without a comment";
export const fingerprint = () => "Fingerprint";
export const added = () => "Added";
export const until = () => "Until";
export const lastUsed = () => "Last used";
export const toTheNearestTen = (lastUsed: string) => `${lastUsed}, to the nearest ten minutes`;
export const removeTheKey = (comment: string) => `Remove the key ${comment}`;
export const removeTheKeyOfComment = (comment: string) => `Remove the key ${comment}?`;
export const itLetsYouIn = () => "It lets you in no more, and what is open by it ends.";
export const remove = () => "Remove";
export const addAPublicKey = () => "Add a public key";
export const addIt = () => "Add it";
export const publicKey = () => "Public key";
export const theOneLineOf = () => "The one line of the file that ends in .pub, like ~/.ssh/id_ed25519.pub";
export const theKeyPlease = () => "The key, please";
export const sshEd25519AaaaYou = () => "ssh-ed25519 AAAA… you@your-machine";
export const whatItIsCalled = () => "What it is called";
export const theKeysOwnComment = () => "The key's own comment where it is left out.";
export const daysUntilItEnds = () => "Days until it ends";
export const sshBench = (name: string) => `ssh ${name}.bench`;
export const after = (code: ReactNode, host: ReactNode) => (
  <>
    after {code}
    {host}
  </>
);
export const withAKeyOf = (typographyText: ReactNode) => <>; with a key of yours: {typographyText}</>;
export const sshP = (port: string, name: string, host: string) => `ssh -p ${port} ${name}@${host}`;
export const openIn = (name: string) => `Open in ${name}`;
export const never = () => "never";
