import type { ComponentProps } from "react";
import { Link } from "react-router";
import { root } from "../api/root";
import { exact } from "./format";

/** atSite is the address of a page of a site, through this headquarters. */
export const atSite = (site: string, to: string) => `${root}/sites/${encodeURIComponent(site)}${to}`;

/** To is a link to a page here or, for an object of a site, to that site's page. */
export function To({
  site,
  to,
  children,
  ...rest
}: { site?: string; to: string } & Omit<ComponentProps<typeof Link>, "to">) {
  if (!site)
    return (
      <Link to={to} {...rest}>
        {children}
      </Link>
    );
  return (
    <a href={atSite(site, to)} {...rest}>
      {children}
    </a>
  );
}

/** AsOf gives the date of a site's data if the site is not reachable. */
export const AsOf = ({ at }: { at?: string }) => (at ? <span>, as of {exact(new Date(at))}</span> : null);

/** At is the name of a site before an object of it; empty if there are no sites. */
export const At = ({ site }: { site?: string }) => (site ? <span className="text-soft">{site}: </span> : null);

/** under is the path of the headquarters and the name of the site, when this console was opened through one. */
export const under = /^(.*)\/sites\/([a-z0-9-]+)$/.exec(root);
