export const theDocumentCannotBe = () => "The document cannot be read as it stands: mend it as a text first.";
export const commonValues = () => "Common values";
export const notSaid = () => "not said";
