/** root is the path under which the console is served: empty, or such as "/storage" behind a reverse proxy. */
export const root = typeof document === "undefined" ? "" : (document.documentElement.dataset.root ?? "");

/** here is the address of the page that is shown, without that path. */
export const here = () =>
  location.pathname.startsWith(root) ? location.pathname.slice(root.length) || "/" : location.pathname;

/** go loads a page of the console again. */
export const go = (path: string) => location.assign(root + path);
