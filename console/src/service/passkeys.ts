import { queryOptions } from "@tanstack/react-query";
import { api, take, whole } from "../api/client";

/** One's passkeys. */
export const passkeys = queryOptions({ queryKey: ["passkeys"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/passkeys", { signal, params: { query: page } })) });
export const dropPasskey = (id: string) => take(api.DELETE("/api/v1/passkeys/{id}", { params: { path: { id } } }));

const answer = (c: Credential | null) => {
  if (!(c instanceof PublicKeyCredential)) throw new Error("there is no answer");
  return JSON.stringify(c.toJSON());
};

/** makePasskey has the browser make one, which stays with whoever sits at it. */
export async function makePasskey(body: { name: string; password?: string }) {
  const q = await take(api.POST("/api/v1/passkey-questions"));
  const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(JSON.parse(q.options) as PublicKeyCredentialCreationOptionsJSON);
  return take(api.POST("/api/v1/passkeys", { body: { ...body, kept: q.kept, answer: answer(await navigator.credentials.create({ publicKey })) } }));
}

/** signInByPasskey signs in whoever has a passkey here. */
export async function signInByPasskey() {
  const q = await take(api.POST("/api/v1/sign-in-questions"));
  const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(JSON.parse(q.options) as PublicKeyCredentialRequestOptionsJSON);
  return take(api.POST("/api/v1/passkey-sign-ins", { body: { kept: q.kept, answer: answer(await navigator.credentials.get({ publicKey })) } }));
}

/** hasPasskeys tells whether this browser knows them. */
export const hasPasskeys = () => typeof PublicKeyCredential === "function" && "parseCreationOptionsFromJSON" in PublicKeyCredential;
