import { lazy, type ComponentType } from "react";
import type { S } from "./api/client";
import { steady } from "./parts/loading";

type Kind = S["Event"]["kind"];

/** Page is all that the console knows of one of its pages; a new page is added here and nowhere else. */
export type Page = {
  path: string;
  load: () => Promise<{ default: ComponentType }>;
  /** Its name in the navigation and in the search; a page that is reached from others has none. */
  name?: string;
  /** What the search says of it. */
  detail?: string;
  /** Whether a headquarters has it too; "only" where nobody else has it. */
  headquarters?: true | "only";
  /** The first parts of the query keys that it brings, and the events that make their answers old. */
  queries?: Record<string, Kind[]>;
};

export const pages: Page[] = [
  {
    path: "/",
    name: "Round",
    detail: "what needs a person now",
    headquarters: true,
    load: () => import("./round/page"),
    queries: { round: ["host", "drive", "pool", "recovery", "swap", "alarm", "rule", "notice"] },
  },
  {
    path: "/sites",
    name: "Sites",
    detail: "who tells this headquarters what, and who cannot be reached",
    headquarters: "only",
    load: () => import("./sites/page"),
    queries: { sites: ["host"] },
  },
  {
    path: "/notices",
    name: "Notices",
    detail: "list, and the channels they are sent to",
    headquarters: true,
    load: () => import("./notices/page"),
    queries: { notices: ["notice"], channels: [] },
  },
  {
    path: "/drives",
    name: "Drives",
    detail: "list",
    load: () => import("./drives/list"),
    queries: { drives: ["host", "drive", "rule"] },
  },
  {
    path: "/drives/:drive",
    load: () => import("./drives/page"),
    queries: { drive: ["host", "drive", "swap", "acceptance", "light", "rule", "plan"] },
  },
  {
    path: "/bays/:host?",
    name: "Bays",
    detail: "maps",
    load: () => import("./bays/page"),
    queries: { bays: ["host", "drive", "swap", "light", "alarm"], hosts: ["host"] },
  },
  {
    path: "/hosts",
    name: "Hosts",
    detail: "who reports, clocks, rooms, what is refused",
    load: () => import("./hosts/page"),
    queries: { invitations: ["host"] },
  },
  { path: "/bays/:host/survey", load: () => import("./bays/survey"), queries: { survey: ["host", "light"] } },
  {
    path: "/pools",
    name: "Pools",
    detail: "list",
    load: () => import("./pools/list"),
    queries: {
      pools: ["host", "drive", "pool", "recovery", "swap", "alarm"],
      horizon: ["host", "drive", "pool", "recovery", "swap", "alarm"],
    },
  },
  { path: "/pools/:pool", load: () => import("./pools/page"), queries: { whatif: ["pool"] } },
  {
    path: "/tests",
    name: "Tests",
    detail: "plans, calendar and results of self-tests",
    load: () => import("./tests/page"),
    queries: { plans: ["plan"], calendar: ["plan"] },
  },
  {
    path: "/swaps",
    name: "Swaps",
    detail: "list",
    load: () => import("./swaps/list"),
    queries: { swaps: ["drive", "recovery", "swap", "campaign", "acceptance", "light", "alarm"] },
  },
  { path: "/swaps/:id", load: () => import("./swaps/page") },
  { path: "/swaps/:id/card", load: () => import("./swaps/card") },
  { path: "/swaps/:id/record", load: () => import("./swaps/record") },
  {
    path: "/campaigns/:id",
    load: () => import("./swaps/campaign"),
    queries: { campaigns: ["swap", "campaign"] },
  },
  {
    path: "/stock",
    name: "Stock",
    detail: "drives kept to replace others, and tests of new ones",
    headquarters: true,
    load: () => import("./stock/page"),
    queries: { stock: ["acceptance", "host"], acceptances: ["acceptance"] },
  },
  {
    path: "/inventory",
    name: "Inventory",
    detail: "purchase, warranty, batch, notes, what was sent back or destroyed",
    load: () => import("./inventory/page"),
    queries: { inventory: ["drive", "swap"] },
  },
  {
    path: "/reports",
    name: "Reports",
    detail: "what to buy, how often drives fail, the report on a month",
    load: () => import("./reports/page"),
    queries: { advice: ["drive"], failures: ["drive"], capacity: ["pool"] },
  },
  {
    path: "/recoveries",
    name: "Recoveries",
    detail: "list",
    load: () => import("./recoveries/list"),
    queries: { recoveries: ["recovery"] },
  },
  { path: "/recoveries/:id", load: () => import("./recoveries/page") },
  { path: "/story/:kind/:name", load: () => import("./story/page"), queries: { story: [] } },
  {
    path: "/rules",
    name: "Rules",
    detail: "thresholds, and rules of your own",
    load: () => import("./rules/page"),
    queries: { rules: ["rule"] },
  },
  {
    path: "/people",
    name: "People",
    detail: "roles, sessions, and who changed what",
    headquarters: true,
    load: () => import("./people/page"),
    queries: { people: [], sessions: [], audit: ["host", "swap", "light", "rule", "plan", "notice"] },
  },
];

/** The queries of no page: the frame asks them. */
const frame: Record<string, Kind[]> = { me: [], people: [], lab: ["lab"], search: [] };

/** target is where a page is reached without parameters. */
const target = (p: Page) => p.path.replace(/\/:[^/]*\?$/, "");

/** offered are the pages that have a name, at a headquarters or at a service of its own, in their order. */
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

/** routes are the pages with what draws them, loaded when they are first opened. */
export const routes = pages.map((p) => ({ path: p.path, Page: lazy(steady(p.load)) }));

/** touches are the queries that an event of each kind makes old. */
export const touches: Partial<Record<Kind, string[]>> = {};
for (const queries of [frame, ...pages.map((p) => p.queries ?? {})])
  for (const [key, kinds] of Object.entries(queries)) for (const kind of kinds) (touches[kind] ??= []).push(key);
