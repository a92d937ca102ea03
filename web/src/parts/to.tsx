import type { ComponentProps } from "react";
import { Link } from "react-router";
import { root } from "../api/root";

/** atSite is the address of a page of a site that this headquarters shows. */
export const atSite = (site: string, to: string) => `${root}/sites/${encodeURIComponent(site)}${to}`;

/** To is a link to a page here, or, where a site tells it, to the page of that site. */
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

/** At is the name of a site before what it tells; nothing where there is one service alone. */
export const At = ({ site }: { site?: string }) => (site ? <span className="text-soft">{site}: </span> : null);

/** under is the site whose console this is, when it was reached through a headquarters, and where that is. */
export const under = /^(.*)\/sites\/([a-z0-9-]+)$/.exec(root);
