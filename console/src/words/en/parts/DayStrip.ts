export const inTheLast24 = (about: string, span: string, span2: string, from?: string) => `In the last 24 hours: worked in ${about}${span}, idle ${about}${span2}, at rest the others${from ? `; since ${from}` : ""}`;
export const about = () => "about ";
