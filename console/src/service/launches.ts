import { queryOptions } from "@tanstack/react-query";
import { api, take } from "../api/client";
import type { components } from "../api/schema";

export type Launch = components["schemas"]["Launch"];

/** What a launch would come to. */
export const preflight = (body: Launch) => queryOptions({ queryKey: ["preflight", JSON.stringify(body)], retry: false, queryFn: ({ signal }) => take(api.POST("/api/v1/preflight", { signal, body })) });

export const launch = (body: Launch) => take(api.POST("/api/v1/workspaces", { body }));

const lastMost = 3;
const key = (person: string) => `yardbench.launches.${person}`;

/** lastLaunches are the choices of somebody's last launches, the newest first, kept in their browser. */
export function lastLaunches(person: string): Launch[] {
  try {
    const all = JSON.parse(localStorage.getItem(key(person)) ?? "[]") as Launch[];
    return all.filter((l) => typeof l.repository === "string" && l.repository).slice(0, lastMost);
  } catch {
    return [];
  }
}

/** launched keeps a choice; its name is for one workspace alone, and is left out. */
export function launched(person: string, of: Launch) {
  const body = { ...of };
  delete body.name;
  delete body.errand;
  const same = (l: Launch) => JSON.stringify(l) === JSON.stringify(body);
  try {
    localStorage.setItem(key(person), JSON.stringify([body, ...lastLaunches(person).filter((l) => !same(l))].slice(0, lastMost)));
  } catch {
    // Nothing is kept then.
  }
}
