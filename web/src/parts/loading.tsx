import { Component, type ComponentType, type ReactNode } from "react";
import { countUnsent } from "../api/client";
import { root } from "../api/root";

type Module = { default: ComponentType };

const rest = (ms: number) => new Promise((go) => setTimeout(go, ms));

/** answers reports whether the service answers. */
async function answers(): Promise<boolean> {
  try {
    const r = await fetch(`${root}/api/v1/ready`, { cache: "no-store" });
    return r.headers.get("Content-Type")?.includes("json") ?? false;
  } catch {
    return false;
  }
}

/** reloadedFor is the storage key of the page for which the console was reloaded, so that it is done once. */
const reloadedFor = "reloaded-for";

/**
 * steady loads a page. If the service does not answer, it tries again; if it answers and the page's file does not
 * exist, the service was upgraded, and the console is reloaded once.
 */
export function steady(load: () => Promise<Module>): () => Promise<Module> {
  return async () => {
    for (let pause = 300; ; pause = Math.min(2 * pause, 4000)) {
      try {
        const page = await load();
        sessionStorage.removeItem(reloadedFor);
        return page;
      } catch (e) {
        if (await answers()) {
          try {
            return await load(); // the service may answer again now
          } catch {
            // gone for good
          }
          if (sessionStorage.getItem(reloadedFor) === location.pathname) throw e;
          while (countUnsent() > 0) await rest(300); // waiting requests are sent first
          sessionStorage.setItem(reloadedFor, location.pathname);
          location.reload();
          await new Promise(() => {});
        }
        await rest(pause);
      }
    }
  };
}

type Fence = { children: ReactNode; page: string };

/** Boundary keeps the frame and its alarms when a page fails: the page alone says so, and can be tried again. */
export class Boundary extends Component<Fence, { error: Error | null; page: string }> {
  state = { error: null as Error | null, page: this.props.page };
  static getDerivedStateFromError = (error: Error) => ({ error });
  static getDerivedStateFromProps = (props: Fence, was: { error: Error | null; page: string }) =>
    props.page === was.page ? null : { error: null, page: props.page };
  render() {
    if (!this.state.error) return this.props.children;
    return (
      <div role="alert" className="sheet space-y-3 border-replace p-5">
        <h1 className="text-xl!">This page could not be shown.</h1>
        <p>Alarms above are still shown. What the browser said: {this.state.error.message}</p>
        <p className="flex flex-wrap gap-3">
          <button className="button main" onClick={() => location.reload()}>
            Reload
          </button>
          <a className="button" href="/">
            Go to the round
          </a>
        </p>
      </div>
    );
  }
}
