import type { QueryClient } from "@tanstack/react-query";
import { lazy, type ComponentType } from "react";
import { matchPath, type Params } from "react-router";
import { may, type Me, type Person, type Right, ledBy } from "./api/client";
import { workspaces } from "./service/workspaces";
import * as say from "words/routes";

type Page = ComponentType<{ person: Me }>;

interface Room {
  path: string;
  /** What one must be allowed to ask for, and of whose matters: without it the page says so. */
  needs: [action: Right["action"], ...of: Right["of"]];
  load: () => Promise<Page>;
  /** What it reads first, asked for while its part comes. */
  reads?: (queries: QueryClient) => void;
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
      const answers = await fetch("/", { cache: "no-store" }).then(
        (a) => a.ok,
        () => false,
      );
      if (answers) throw e;
      await new Promise((r) => setTimeout(r, cutOffPause));
      return again();
    }
  };
  return lazy(again);
}

const workspaceOf = (of: Params) => (of.name ?? of.ref ?? "").split(".")[0] ?? "";

/** Every page of the console: its address, its part and its title. */
const table: Room[] = [
  { path: "/mine", needs: ["workspace.launch"], name: say.mine(), reads: (q) => void q.prefetchQuery(workspaces(false)), load: () => import("./mine/MinePage").then((m) => m.MinePage) },
  { path: "/fleet", needs: ["workspace.see", "team", "other"], name: say.fleet(), reads: (q) => void q.prefetchQuery(workspaces(true)), load: () => import("./pages/FleetPage").then((m) => m.FleetPage) },
  { path: "/attention", needs: ["workspace.see", "team", "other"], name: say.attention(), load: () => import("./pages/AttentionPage").then((m) => m.AttentionPage) },
  { path: "/bench/:name", needs: ["workspace.see"], name: say.bench(), title: (of) => `${workspaceOf(of)}: bench`, load: () => import("./bench/BenchPage").then((m) => m.BenchPage) },
  { path: "/operations", needs: ["operation.ask"], name: say.operations(), load: () => import("./pages/OperationsPage").then((m) => m.OperationsPage) },
  { path: "/launch", needs: ["workspace.launch"], name: say.launch(), load: () => import("./pages/LaunchPage").then((m) => m.LaunchPage) },
  { path: "/launch-links", needs: ["launch-link.see"], name: say.launchLinks(), load: () => import("./pages/LaunchLinksPage").then((m) => m.LaunchLinksPage) },
  { path: "/go/:link", needs: ["workspace.launch"], name: say.launchLink(), load: () => import("./pages/GoPage").then((m) => m.GoPage) },
  { path: "/workspaces/:name", needs: ["workspace.see"], name: say.workspace(), title: workspaceOf, load: () => import("./pages/WorkspacePage").then((m) => m.WorkspacePage) },
  { path: "/workspaces/:name/entry", needs: ["workspace.enter"], name: say.comeIn(), title: workspaceOf, load: () => import("./pages/EntryPage").then((m) => m.EntryPage) },
  { path: "/repositories", needs: ["repository.see"], name: say.repositories(), load: () => import("./pages/RepositoriesPage").then((m) => m.RepositoriesPage) },
  { path: "/repositories/:repository", needs: ["repository.see"], name: say.repository(), title: (of) => of.repository ?? "", load: () => import("./pages/RepositoryPage").then((m) => m.RepositoryPage) },
  { path: "/repositories/:repository/definition", needs: ["repository.see"], name: say.definition(), title: (of) => `${of.repository}: definition`, load: () => import("./pages/DefinitionPage").then((m) => m.DefinitionPage) },
  { path: "/webhooks", needs: ["webhook.see"], name: say.webhooks(), load: () => import("./pages/WebhooksPage").then((m) => m.WebhooksPage) },
  { path: "/starters", needs: ["repository.see"], name: say.starters(), load: () => import("./pages/StartersPage").then((m) => m.StartersPage) },
  { path: "/prebuild-runs/:run", needs: ["prebuild.see"], name: say.prebuild(), load: () => import("./pages/RunPage").then((m) => m.RunPage) },
  { path: "/secrets", needs: ["self.see"], name: say.secrets(), load: () => import("./pages/SecretsPage").then((m) => m.SecretsPage) },
  { path: "/people", needs: ["people.see"], name: say.people(), load: () => import("./pages/PeoplePage").then((m) => m.PeoplePage) },
  { path: "/providers", needs: ["provider.see"], name: say.providers(), load: () => import("./pages/ProvidersPage").then((m) => m.ProvidersPage) },
  { path: "/rules", needs: ["rules.see"], name: say.houseRules(), load: () => import("./pages/RulesPage").then((m) => m.RulesPage) },
  { path: "/cost", needs: ["cost.see"], name: say.cost(), load: () => import("./pages/CostPage").then((m) => m.CostPage) },
  { path: "/journal", needs: ["journal.see"], name: say.journal(), load: () => import("./pages/JournalPage").then((m) => m.JournalPage) },
  { path: "/you", needs: ["self.see"], name: say.you(), load: () => import("./pages/YouPage").then((m) => m.YouPage) },
  { path: "/looks/:ref/:label", needs: ["self.see"], name: say.look(), title: workspaceOf, load: () => import("./pages/LookPage").then((m) => m.LookPage) },
  { path: "/recordings", needs: ["recording.see"], name: say.recordings(), load: () => import("./pages/RecordingsPage").then((m) => m.RecordingsPage) },
  { path: "/recordings/:id", needs: ["recording.see"], name: say.recording(), load: () => import("./pages/RecordingPage").then((m) => m.RecordingPage) },
  { path: "/again", needs: ["self.see"], name: say.signInAgain(), load: () => import("./pages/AgainPage").then((m) => m.AgainPage) },
  { path: "/device", needs: ["self.change"], name: say.letAProgramIn(), load: () => import("./pages/DevicePage").then((m) => m.DevicePage) },
  { path: "/let-in", needs: ["self.change"], name: say.letAProgramIn(), load: () => import("./pages/LetInPage").then((m) => m.LetInPage) },
  { path: "/visit", needs: ["port.visit"], name: say.visit(), load: () => import("./pages/VisitPage").then((m) => m.VisitPage) },
];

/** The same, each with its page as it is painted. */
export const rooms = table.map((r) => ({ ...r, page: part(r.load) }));

/** ahead has the page of an address come, with what it reads first, before it is known who asks for it. */
export function ahead(pathname: string, queries: QueryClient) {
  const room = table.find((r) => matchPath(r.path, pathname));
  room?.reads?.(queries);
  void room?.load().catch(() => undefined); // it is asked for again when it is painted
}

/** The pages in the bar of each role, in the order in which it needs them; it begins at the first. */
const bars: Record<Person["role"], string[]> = {
  operator: ["/attention", "/fleet", "/mine", "/repositories", "/secrets", "/people", "/cost", "/rules", "/journal", "/webhooks"],
  lead: ["/mine", "/fleet", "/attention", "/repositories", "/secrets", "/people", "/cost", "/rules", "/journal"],
  auditor: ["/fleet", "/attention", "/repositories", "/people", "/cost", "/rules", "/journal", "/webhooks"],
  developer: ["/mine", "/repositories", "/secrets", "/cost", "/rules", "/journal"],
  guest: ["/mine", "/repositories", "/secrets", "/cost", "/journal"],
};

/** The bar of somebody: addresses and how they are called. */
export function barOf(person: Me): { path: string; name: string }[] {
  return bars[person.role === "developer" && ledBy(person).length > 0 ? "lead" : person.role].flatMap((path) => rooms.filter((r) => r.path === path && may(person, ...r.needs))).map((r) => ({ path: r.path, name: r.path === "/fleet" && !may(person, "workspace.see", "other") ? say.myTeams() : r.name }));
}

/** titleOf is a page's title: what it is about first, so that many windows can be told apart. */
export function titleOf(pathname: string): string {
  for (const r of rooms) {
    const found = matchPath(r.path, pathname);
    if (found) return say.yardBenchOfParams(r.title?.(found.params) ?? r.name);
  }
  return say.yardBench();
}
