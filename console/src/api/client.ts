import createClient from "openapi-fetch";
import type { components, paths } from "./schema";
import * as say from "words/api/client";

type Schemas = components["schemas"];
export type Workspace = Schemas["Workspace"];
export type WorkspaceRow = Schemas["WorkspaceRow"];
export type Sheet = Schemas["Sheet"];
export type Step = Schemas["Step"];
export type Repository = Schemas["Repository"];
export type Person = Schemas["Person"];
export type Guest = Schemas["Guest"];
export type Me = Schemas["Me"];

export type Right = Schemas["Right"];

/** The teams that somebody leads, their own first. */
export const ledBy = (p: Person) => [...(p.role === "lead" && p.team ? [p.team] : []), ...(p.also ?? []).filter((m) => m.leads).map((m) => m.team)];

/** All teams that somebody is in, their own first. */
export const teamsOf = (p: Person) => [...(p.team ? [p.team] : []), ...(p.also ?? []).map((m) => m.team)];

/** ofTeam says how a team stands to somebody: theirs where they lead it, or lead none and are in it. */
export const ofTeam = (me: Person, team?: string): Right["of"][number] => {
  const led = ledBy(me);
  return team && (led.length > 0 ? led : teamsOf(me)).includes(team) ? "team" : "other";
};

/** whose says how something of a person stands to somebody: their own, their team's, another's. */
export const whose = (me: Me, of: { owner: string; team?: string }): Right["of"][number] => (of.owner === me.name ? "own" : ofTeam(me, of.team));

/** may tells whether somebody may ask for something, of anybody's matters or of those that are named. */
export const may = (me: Me, action: Right["action"], ...of: Right["of"]) => me.may.some((r) => r.action === action && (of.length === 0 || of.some((o) => r.of.includes(o))));
export type Secret = Schemas["Secret"];
export type SecretChoice = Schemas["SecretChoice"];
export type Preflight = Schemas["Preflight"];
export type Finding = Schemas["DefinitionFinding"];
export type PrebuildPlan = Schemas["PrebuildPlan"];
export type PrebuildRun = Schemas["PrebuildRun"];
export type Service = components["schemas"]["Service"];
export type Starter = components["schemas"]["Starter"];
export type Container = Schemas["Container"];
export type Port = Schemas["Port"];
export type Rules = Schemas["Rules"];
export type RulesVersion = Schemas["RulesVersion"];
export type Opening = Schemas["Opening"];
export type RulesCheck = Schemas["RulesCheck"];
export type CostRow = Schemas["CostRow"];
export type JournalEntry = Schemas["JournalEntry"];
export type Token = Schemas["Token"];
export type Operation = Schemas["Operation"];
export type Outcome = Schemas["Outcome"];
export type Stretch = Schemas["Stretch"];

/** A problem as the service tells it (RFC 9457), with what to do next. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly detail: string,
    readonly next?: string,
    readonly errors: { field: string; detail: string }[] = [],
    readonly actions: Schemas["Action"][] = [],
    readonly limits: Schemas["LimitLine"][] = [],
  ) {
    super(detail);
  }
}

const tries = 4;
const firstPause = 300;
const strangers = ["/api/v1/sign-in", "/api/v1/enrolments/use"]; // nobody is known there yet whose key could be
const gateways = [502, 504];

/**
 * asking sends a request. One that changes something is known to the service by a
 * key: it may be sent again where its answer was lost, and is done once.
 */
async function asking(request: Request): Promise<Response> {
  if (request.method !== "POST" || strangers.includes(new URL(request.url).pathname)) return fetch(request);
  const key = [...crypto.getRandomValues(new Uint8Array(16))].map((b) => b.toString(16).padStart(2, "0")).join("");
  request.headers.set("Idempotency-Key", key);
  for (let n = 1, pause = firstPause; ; n++, pause *= 2) {
    try {
      const answer = await fetch(request.clone());
      if (n === tries || !gateways.includes(answer.status)) return answer;
    } catch (e) {
      if (n === tries || request.signal.aborted) throw e;
    }
    await new Promise((r) => setTimeout(r, pause));
  }
}

export const api = createClient<paths>({ baseUrl: "/", fetch: asking });

/** take gives an answer's data, or throws its Problem. */
export async function take<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let got;
  try {
    got = await answer;
  } catch {
    throw new Problem(0, say.theServiceDoesNot(), say.checkThatItRuns());
  }
  if (got.response.ok) return got.data as T;
  const p = (got.error ?? {}) as Partial<Problem> & { title?: string };
  throw new Problem(got.response.status, p.detail || p.title || got.response.statusText, p.next, p.errors ?? [], p.actions ?? [], p.limits ?? []);
}

let listed: number | undefined;

/** firstListed is how new the journal was when the first list of this page was read: what came after it is told by the event stream from there. */
export const firstListed = () => listed;

/** whole reads a list to its end, part by part. */
export async function whole<T>(part: (page: { limit: number; after?: string }) => Promise<{ data?: { items: T[]; next?: string; as_of?: number }; error?: unknown; response: Response }>): Promise<T[]> {
  const all: T[] = [];
  for (let after: string | undefined; ;) {
    const got = await take(part({ limit: 1000, after }));
    all.push(...got.items);
    listed ??= got.as_of;
    if (!got.next || got.next === after) return all;
    after = got.next;
  }
}

/** nameOf is how to ask for a workspace, whoever owns it. */
export const nameOf = (w: { name: string; owner: string }) => `${w.name}.${w.owner}`;
