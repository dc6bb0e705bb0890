export const houseRules = () => "House rules";
export const before = () => "Before";
export const after = () => "After";
