import { lazy, type ComponentType } from "react";
import { matchPath, type Params } from "react-router";
import type { Person } from "./api/client";

type Page = ComponentType<{ person: Person }>;

interface Room {
  path: string;
  page: Page;
  /** How it is called in the bar, and, where `title` says nothing else, in the window's title. */
  name: string;
  title?: (of: Params) => string;
}

const cutOffPause = 2_000;

/**
 * part is a page that comes when it is opened. Where the service does not answer it is
 * asked for again; a page of another release is gone for good, and says so.
 */
function part(load: () => Promise<Page>): Page {
  const again = async (): Promise<{ default: Page }> => {
    try {
      return { default: await load() };
    } catch (e) {
      const answers = await fetch("/", { cache: "no-store" }).then((a) => a.ok, () => false);
      if (answers) throw e;
      await new Promise((r) => setTimeout(r, cutOffPause));
      return again();
    }
  };
  return lazy(again);
}

const workspaceOf = (of: Params) => (of.name ?? of.ref ?? "").split(".")[0] ?? "";

/** Every page of the console: its address, its part and its title. */
export const rooms: Room[] = [
  { path: "/mine", name: "Mine", page: part(() => import("./mine/MinePage").then((m) => m.MinePage)) },
  { path: "/fleet", name: "Fleet", page: part(() => import("./pages/FleetPage").then((m) => m.FleetPage)) },
  { path: "/attention", name: "Attention", page: part(() => import("./pages/AttentionPage").then((m) => m.AttentionPage)) },
  { path: "/bench/:name", name: "Bench", title: (of) => `${workspaceOf(of)}: bench`, page: part(() => import("./bench/BenchPage").then((m) => m.BenchPage)) },
  { path: "/operations", name: "Operations", page: part(() => import("./pages/OperationsPage").then((m) => m.OperationsPage)) },
  { path: "/launch", name: "Launch", page: part(() => import("./pages/LaunchPage").then((m) => m.LaunchPage)) },
  { path: "/workspaces/:name", name: "Workspace", title: workspaceOf, page: part(() => import("./pages/WorkspacePage").then((m) => m.WorkspacePage)) },
  { path: "/repositories", name: "Repositories", page: part(() => import("./pages/RepositoriesPage").then((m) => m.RepositoriesPage)) },
  { path: "/repositories/:repository", name: "Repository", title: (of) => of.repository ?? "", page: part(() => import("./pages/RepositoryPage").then((m) => m.RepositoryPage)) },
  { path: "/repositories/:repository/definition", name: "Definition", title: (of) => `${of.repository}: definition`, page: part(() => import("./pages/DefinitionPage").then((m) => m.DefinitionPage)) },
  { path: "/webhooks", name: "Webhooks", page: part(() => import("./pages/WebhooksPage").then((m) => m.WebhooksPage)) },
  { path: "/starters", name: "Starters", page: part(() => import("./pages/StartersPage").then((m) => m.StartersPage)) },
  { path: "/prebuild-runs/:run", name: "Prebuild", page: part(() => import("./pages/RunPage").then((m) => m.RunPage)) },
  { path: "/secrets", name: "Secrets", page: part(() => import("./pages/SecretsPage").then((m) => m.SecretsPage)) },
  { path: "/people", name: "People", page: part(() => import("./pages/PeoplePage").then((m) => m.PeoplePage)) },
  { path: "/rules", name: "House rules", page: part(() => import("./pages/RulesPage").then((m) => m.RulesPage)) },
  { path: "/cost", name: "Cost", page: part(() => import("./pages/CostPage").then((m) => m.CostPage)) },
  { path: "/journal", name: "Journal", page: part(() => import("./pages/JournalPage").then((m) => m.JournalPage)) },
  { path: "/you", name: "You", page: part(() => import("./pages/YouPage").then((m) => m.YouPage)) },
  { path: "/looks/:ref/:label", name: "Look", title: workspaceOf, page: part(() => import("./pages/LookPage").then((m) => m.LookPage)) },
  { path: "/recordings", name: "Recordings", page: part(() => import("./pages/RecordingsPage").then((m) => m.RecordingsPage)) },
  { path: "/recordings/:id", name: "Recording", page: part(() => import("./pages/RecordingPage").then((m) => m.RecordingPage)) },
  { path: "/visit", name: "Visit", page: part(() => import("./pages/VisitPage").then((m) => m.VisitPage)) },
];

/** The pages in the bar of each role, in the order in which it needs them; it begins at the first. */
const bars: Record<Person["role"], string[]> = {
  operator: ["/attention", "/fleet", "/mine", "/repositories", "/secrets", "/people", "/cost", "/rules", "/journal", "/webhooks"],
  lead: ["/mine", "/fleet", "/attention", "/repositories", "/secrets", "/people", "/cost", "/rules", "/journal"],
  auditor: ["/fleet", "/attention", "/repositories", "/people", "/cost", "/rules", "/journal", "/webhooks"],
  developer: ["/mine", "/repositories", "/secrets", "/cost", "/rules", "/journal"],
};

/** The bar of somebody: addresses and how they are called. */
export function barOf(person: Person): { path: string; name: string }[] {
  return bars[person.role].map((path) => ({ path, name: path === "/fleet" && person.role === "lead" ? "My team's" : (rooms.find((r) => r.path === path)?.name ?? path) }));
}

/** titleOf is a page's title: what it is about first, so that many windows can be told apart. */
export function titleOf(pathname: string): string {
  for (const r of rooms) {
    const found = matchPath(r.path, pathname);
    if (found) return `${r.title?.(found.params) ?? r.name} · Yard Bench`;
  }
  return "Yard Bench";
}
