import "@fontsource-variable/atkinson-hyperlegible-next/wght.css";
import "@fontsource/atkinson-hyperlegible-mono/latin-600.css";
import "@fontsource/atkinson-hyperlegible-mono/latin-400.css";
import "./main.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { StrictMode, Suspense, type ReactNode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Route, Routes, useLocation } from "react-router";
import { Told } from "./api/client";
import { LiveProvider } from "./api/live";
import { routes } from "./pages";
import { Frame } from "./parts/frame";
import { Boundary } from "./parts/loading";
import { Empty, Title, Waiting } from "./parts/parts";
import { Tells } from "./parts/toast";
import { SignInOver } from "./session/over";
import { returned, SignIn } from "./session/page";
import { root } from "./api/root";

returned();

// A service worker keeps what is needed at the rack without a network, if the browser trusts the connection.
if (import.meta.env.PROD && "serviceWorker" in navigator)
  void navigator.serviceWorker.register(`${root}/sw.js`).catch(() => {});

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 20_000,
      refetchInterval: 60_000,
      // A refusal stays one however often it is asked; only a lost connection is worth another try.
      retry: (n, error) => !(error instanceof Told) && n < 3,
    },
    // A change is tried whatever the browser believes of its connection: the client sends it until it is answered.
    mutations: { networkMode: "always" },
  },
});

/** Page is the part within the frame: an error in it, or a slow load, leaves the frame as it is. */
function Page({ children }: { children: ReactNode }) {
  return (
    <Boundary page={useLocation().pathname}>
      <Suspense fallback={<Waiting />}>{children}</Suspense>
    </Boundary>
  );
}

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <Tooltip.Provider>
        <Tells>
          <BrowserRouter basename={root || "/"}>
            <Routes>
              <Route path="/sign-in" element={<SignIn />} />
              <Route
                path="*"
                element={
                  <LiveProvider>
                    <SignInOver />
                    <Frame>
                      <Page>
                        <Routes>
                          {routes.map(({ path, Page }) => (
                            <Route key={path} path={path} element={<Page />} />
                          ))}
                          <Route
                            path="*"
                            element={
                              <>
                                <Title>Nothing here</Title>
                                <Empty>No such page. Press / to search.</Empty>
                              </>
                            }
                          />
                        </Routes>
                      </Page>
                    </Frame>
                  </LiveProvider>
                }
              />
            </Routes>
          </BrowserRouter>
        </Tells>
      </Tooltip.Provider>
    </QueryClientProvider>
  </StrictMode>,
);
