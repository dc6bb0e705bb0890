import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Workspace = components["schemas"]["Workspace"];
export type Sheet = components["schemas"]["Sheet"];
export type Step = components["schemas"]["Step"];
export type Repository = components["schemas"]["Repository"];
export type Person = components["schemas"]["Person"];

/** A problem as the service tells it (RFC 9457), with what to do next. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly detail: string,
    readonly next?: string,
    readonly errors: { field: string; detail: string }[] = [],
  ) {
    super(detail);
  }
}

export const api = createClient<paths>({ baseUrl: "/" });

/** take gives an answer's data, or throws its Problem. */
export async function take<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let got;
  try {
    got = await answer;
  } catch {
    throw new Problem(0, "The service does not answer.", "Check that it runs; this page goes on by itself when it does.");
  }
  if (got.response.ok) return got.data as T;
  const p = (got.error ?? {}) as Partial<Problem> & { title?: string };
  throw new Problem(got.response.status, p.detail || p.title || got.response.statusText, p.next, p.errors ?? []);
}

/** nameOf is how to ask for a workspace, whoever owns it. */
export const nameOf = (w: Workspace) => `${w.name}.${w.owner}`;
