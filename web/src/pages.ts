import { lazy, type ComponentType } from "react";
import { matchPath } from "react-router";
import type { S } from "./api/client";
import { steady } from "./parts/loading";

type Kind = S["Event"]["kind"];

/** Page has everything about a page of the console; a new page is added here only. */
export type Page = {
  path: string;
  load: () => Promise<{ default: ComponentType }>;
  /** Its name in the navigation and in the search; empty for a page that is reached from other pages. */
  name?: string;
  /** Its text in the search. */
  detail?: string;
  /** Whether a headquarters has it too; "only" if no one else has it. */
  headquarters?: true | "only";
  /** The command lines that do what the page does; a name after a colon is of its path. */
  lines?: string[];
  /** The first parts of its query keys, and the events that invalidate their answers. */
  queries?: Record<string, Kind[]>;
};

export const pages: Page[] = [
  {
    path: "/",
    name: "Round",
    detail: "what needs a person now",
    headquarters: true,
    lines: ["lantern round", "lantern swap plan <drive>", "lantern light on <bay> --for 10m", "lantern watch"],
    load: () => import("./round/page"),
    queries: { round: ["host", "drive", "pool", "recovery", "swap", "alarm", "rule", "notice"] },
  },
  {
    path: "/sites",
    name: "Sites",
    detail: "sites and whether they are reachable",
    headquarters: "only",
    lines: ["lantern site list", "lantern site invite <name> --write <file>", "lantern site remove <name>"],
    load: () => import("./sites/page"),
    queries: { sites: ["host"] },
  },
  {
    path: "/notices",
    name: "Notices",
    detail: "list and channels",
    headquarters: true,
    lines: [
      "lantern notices",
      'lantern notices saw <drive> --note "..."',
      'lantern notices mute <drive> --for 1d --note "..."',
      "lantern channel set <name> --webhook https://... --secret-file key.txt",
      "lantern channel test <name>",
      "lantern channel remove <name>",
    ],
    load: () => import("./notices/page"),
    queries: { notices: ["notice"], channels: [] },
  },
  {
    path: "/drives",
    name: "Drives",
    detail: "list",
    lines: [
      "lantern drives --verdict replace --verdict dead",
      "lantern drives --where 'pending_sectors>0' --sort -pending_sectors",
      "lantern drives --output csv",
    ],
    load: () => import("./drives/list"),
    queries: { drives: ["host", "drive", "rule"] },
  },
  {
    path: "/drives/:drive",
    lines: [
      "lantern drive :drive",
      "lantern trend :drive <metric> --since 30d",
      "lantern light on :drive --for 10m",
      "lantern light on :drive --all-but --for 10m",
      "lantern selftest start :drive --kind short",
      "lantern selftest stop :drive",
      'lantern inventory note :drive "..." --happened "yesterday 14:00"',
      "lantern swap plan :drive",
    ],
    load: () => import("./drives/page"),
    queries: { drive: ["host", "drive", "swap", "acceptance", "light", "rule", "plan"] },
  },
  {
    path: "/bays/:host?",
    name: "Bays",
    detail: "maps",
    lines: [
      "lantern bays <host>",
      "lantern light on <bay> --for 10m",
      "lantern light on <drive> --all-but --for 10m",
      "lantern light list",
      "lantern light off <bay>",
      "lantern enclosure confirm <bay> <drive>",
      "lantern enclosure define <host> --section front --rows 4 --columns 6",
    ],
    load: () => import("./bays/page"),
    queries: { bays: ["host", "drive", "swap", "light", "alarm"], hosts: ["host"], lights: ["light"] },
  },
  {
    path: "/hosts",
    name: "Hosts",
    detail: "reports, clocks, rooms and refused reports",
    lines: [
      "lantern host list",
      'lantern host room <host> "..."',
      "lantern host cold <host>",
      "lantern host rename <host> <new name>",
      'lantern host retire <host> --reason "..."',
      "lantern host enrol <host>",
      "lantern host invite --count 10 --for 2h",
      "lantern host approve <host>",
      "lantern host refuse <host>",
      "lantern enclosure move <host> <enclosure> <other host>",
    ],
    load: () => import("./hosts/page"),
    queries: { invitations: ["host"] },
  },
  {
    path: "/bays/:host/survey",
    lines: [
      "lantern survey begin :host",
      "lantern survey tap :host <bay>",
      "lantern survey pass :host",
      "lantern survey back :host",
      "lantern survey read :host front/1 <tail> <tail>",
      "lantern survey end :host",
    ],
    load: () => import("./bays/survey"),
    queries: { survey: ["host", "light"] },
  },
  {
    path: "/pools",
    name: "Pools",
    detail: "list",
    lines: ["lantern pools"],
    load: () => import("./pools/list"),
    queries: {
      pools: ["host", "drive", "pool", "recovery", "swap", "alarm"],
      horizon: ["host", "drive", "pool", "recovery", "swap", "alarm"],
    },
  },
  {
    path: "/pools/:pool",
    lines: [
      "lantern pool :pool",
      "lantern whatif :pool --lose <drive>",
      "lantern fit :pool",
      "lantern moves :pool --replace <slot>=8TB",
      "lantern scrub :pool",
      "lantern stop :pool",
      "lantern priority :pool high",
      "lantern campaign plan :pool --size 8TB",
      "lantern rehearse :pool",
    ],
    load: () => import("./pools/page"),
    queries: { whatif: ["pool"] },
  },
  {
    path: "/tests",
    name: "Tests",
    detail: "plans, calendar and results of self-tests",
    lines: [
      "lantern plan list",
      'lantern plan preview fleet --window "daily 22:00-06:00"',
      'lantern plan set fleet --window "daily 22:00-06:00"',
      "lantern plan remove <plan>",
      "lantern plan feed",
      "lantern selftest standing --which overdue",
      "lantern selftest show",
    ],
    load: () => import("./tests/page"),
    queries: { plans: ["plan"], calendar: ["plan"], selftests: ["drive"] },
  },
  {
    path: "/swaps",
    name: "Swaps",
    detail: "list",
    lines: ["lantern swap list", "lantern swap plan <drive>", "lantern campaign list"],
    load: () => import("./swaps/list"),
    queries: { swaps: ["drive", "recovery", "swap", "campaign", "acceptance", "light", "alarm"] },
  },
  {
    path: "/swaps/:id",
    lines: [
      "lantern swap show :id",
      'lantern swap begin :id --reason "..."',
      'lantern swap next :id --reason "..."',
      "lantern swap confirm :id --tail <label tail>",
      "lantern swap back :id",
      'lantern swap hold :id --reason "..."',
      "lantern swap resume :id",
      "lantern swap lead :id --to <person>",
      'lantern swap abandon :id --reason "..."',
      'lantern swap fate :id return --note "..."',
      "lantern swap report :id",
    ],
    load: () => import("./swaps/page"),
  },
  { path: "/swaps/:id/card", load: () => import("./swaps/card") },
  { path: "/swaps/:id/record", load: () => import("./swaps/record") },
  {
    path: "/campaigns/:id",
    lines: [
      "lantern campaign show :id",
      "lantern campaign next :id",
      'lantern campaign skip :id --reason "..."',
      'lantern campaign abandon :id --reason "..."',
    ],
    load: () => import("./swaps/campaign"),
    queries: { campaigns: ["swap", "campaign"] },
  },
  {
    path: "/stock",
    name: "Stock",
    detail: "stock and acceptance tests",
    headquarters: true,
    lines: [
      "lantern stock",
      "lantern accept begin <drive> --extended",
      "lantern accept show <drive>",
      "lantern accept pause <drive>",
      "lantern accept resume <drive>",
      "lantern accept stop <drive>",
      "lantern accept policy --extended",
      'lantern stock keep <drive> --note "..."',
      "lantern stock drop <drive>",
    ],
    load: () => import("./stock/page"),
    queries: { stock: ["acceptance", "host"], acceptances: ["acceptance"] },
  },
  {
    path: "/inventory",
    name: "Inventory",
    detail: "purchase, warranty, batch, notes, what was sent back or destroyed",
    lines: [
      "lantern inventory list --where <condition>",
      "lantern inventory set <drive> <field>=<value>",
      'lantern inventory note <drive> "..."',
      "lantern inventory import <file> --write",
      "lantern inventory remove <drive>",
    ],
    load: () => import("./inventory/page"),
    queries: { inventory: ["drive", "swap"] },
  },
  {
    path: "/reports",
    name: "Reports",
    detail: "what to buy, failure rates, monthly report",
    headquarters: true,
    lines: [
      "lantern report month --html report.html",
      "lantern failures --by model",
      "lantern stock advise",
      "lantern capacity",
    ],
    load: () => import("./reports/page"),
    queries: { advice: ["drive"], failures: ["drive"], capacity: ["pool"] },
  },
  {
    path: "/recoveries",
    name: "Recoveries",
    detail: "list",
    lines: ["lantern recoveries", "lantern recoveries compare <id> <id>", "lantern follow <pool>"],
    load: () => import("./recoveries/list"),
    queries: { recoveries: ["recovery"] },
  },
  {
    path: "/recoveries/:id",
    lines: ["lantern follow <pool>", "lantern priority <pool> high", "lantern recoveries export :id"],
    load: () => import("./recoveries/page"),
  },
  { path: "/story/:kind/:name", load: () => import("./story/page"), queries: { story: [] } },
  {
    path: "/rules",
    name: "Rules",
    detail: "thresholds, and rules of your own",
    lines: [
      "lantern rule list",
      "lantern rule set <threshold> <value> --preview",
      "lantern rule set <threshold> <value> --pool <pool>",
      "lantern rule try '<expression>'",
      `lantern rule add <name> '<expression>' --verdict watch --says "..."`,
      "lantern rule off <rule>",
      "lantern rule on <rule>",
      "lantern rule remove <name>",
    ],
    load: () => import("./rules/page"),
    queries: { rules: ["rule"] },
  },
  {
    path: "/people",
    name: "People",
    detail: "roles, sessions and audit",
    headquarters: true,
    lines: [
      "lantern person list",
      "lantern person add <name> --role operator",
      "lantern person remove <name>",
      "lantern person renew",
      "lantern person sessions",
      "lantern audit list",
      "lantern audit verify",
    ],
    load: () => import("./people/page"),
    queries: { people: [], sessions: [], audit: ["host", "swap", "light", "rule", "plan", "notice"] },
  },
];

/** The queries of no page: the frame asks them. */
const frame: Record<string, Kind[]> = { me: [], people: [], lab: ["lab"], search: [] };

/** target is the address of a page without parameters. */
const target = (p: Page) => p.path.replace(/\/:[^/]*\?$/, "");

/** offered are the pages with a name, at a headquarters or at a service, in their order. */
const offered = (headquarters?: boolean) =>
  pages.filter((p) => p.name && (headquarters ? p.headquarters : p.headquarters !== "only"));

/** navigation names the pages that have a name. */
export const navigation = (headquarters?: boolean) =>
  offered(headquarters).map((p) => ({ to: target(p), name: p.name ?? "" }));

/** searchable are the pages that the search finds, and one list that is asked for often. */
export const searchable = (headquarters?: boolean): S["Hit"][] => [
  ...offered(headquarters).map((p) => ({
    kind: "page" as const,
    title: p.name ?? "",
    detail: p.detail ?? "",
    to: target(p),
  })),
  ...(headquarters
    ? []
    : [{ kind: "page" as const, title: "Drives to replace", detail: "list", to: "/drives?verdict=replace" }]),
];

/** routes are the pages with their components, which are loaded when they are first opened. */
export const routes = pages.map((p) => ({ path: p.path, Page: lazy(steady(p.load)) }));

/** touches are the queries that each kind of event invalidates. */
export const touches: Partial<Record<Kind, string[]>> = {};
for (const queries of [frame, ...pages.map((p) => p.queries ?? {})])
  for (const [key, kinds] of Object.entries(queries)) for (const kind of kinds) (touches[kind] ??= []).push(key);

/** linesAt are the command lines of the page at a path, with the names of that path in them. */
export function linesAt(path: string): string[] {
  for (const p of pages) {
    const match = matchPath(p.path, path);
    if (match && p.lines)
      return p.lines.map((l) => l.replace(/:([a-z]+)/g, (all, name: string) => word(match.params[name]) ?? all));
  }
  return [];
}

/** word is a name, quoted for the shell if necessary. */
const word = (s?: string) => (s === undefined || /^[\w./@:-]+$/.test(s) ? s : `'${s.replaceAll("'", `'\\''`)}'`);
