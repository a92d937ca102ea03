import "@fontsource-variable/atkinson-hyperlegible-next/wght.css";
import "@fontsource/atkinson-hyperlegible-mono/latin-600.css";
import "@fontsource/atkinson-hyperlegible-mono/latin-400.css";
import "./main.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Route, Routes } from "react-router";
import { Told } from "./api/client";
import { LiveProvider } from "./api/live";
import { Frame } from "./parts/frame";
import { Empty, Title, Waiting } from "./parts/parts";
import { Tells } from "./parts/toast";
import { RoundPage } from "./round/page";
import { SignIn } from "./session/page";

const DrivesPage = lazy(() => import("./drives/list"));
const DrivePage = lazy(() => import("./drives/page"));
const PoolsPage = lazy(() => import("./pools/list"));
const PoolPage = lazy(() => import("./pools/page"));
const BaysPage = lazy(() => import("./bays/page"));
const PullCard = lazy(() => import("./swaps/card"));
const SurveyPage = lazy(() => import("./bays/survey"));
const SwapsPage = lazy(() => import("./swaps/list"));
const RecordPage = lazy(() => import("./swaps/record"));
const CampaignPage = lazy(() => import("./swaps/campaign"));
const StockPage = lazy(() => import("./stock/page"));
const SwapPage = lazy(() => import("./swaps/page"));
const RecoveriesPage = lazy(() => import("./recoveries/list"));
const RecoveryPage = lazy(() => import("./recoveries/page"));

const NoticesPage = lazy(() => import("./notices/page"));
const TestsPage = lazy(() => import("./tests/page"));
const RulesPage = lazy(() => import("./rules/page"));

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

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <Tooltip.Provider>
        <Tells>
          <BrowserRouter>
            <Routes>
              <Route path="/sign-in" element={<SignIn />} />
              <Route
                path="*"
                element={
                  <LiveProvider>
                    <Frame>
                      <Suspense fallback={<Waiting />}>
                        <Routes>
                          <Route path="/" element={<RoundPage />} />
                          <Route path="/drives" element={<DrivesPage />} />
                          <Route path="/drives/:drive" element={<DrivePage />} />
                          <Route path="/pools" element={<PoolsPage />} />
                          <Route path="/pools/:pool" element={<PoolPage />} />
                          <Route path="/bays/:host?" element={<BaysPage />} />
                          <Route path="/bays/:host/survey" element={<SurveyPage />} />
                          <Route path="/swaps" element={<SwapsPage />} />
                          <Route path="/swaps/:id/card" element={<PullCard />} />
                          <Route path="/swaps/:id/record" element={<RecordPage />} />
                          <Route path="/swaps/:id" element={<SwapPage />} />
                          <Route path="/campaigns/:id" element={<CampaignPage />} />
                          <Route path="/stock" element={<StockPage />} />
                          <Route path="/recoveries" element={<RecoveriesPage />} />
                          <Route path="/recoveries/:id" element={<RecoveryPage />} />
                          <Route path="/notices" element={<NoticesPage />} />
                          <Route path="/tests" element={<TestsPage />} />
                          <Route path="/rules" element={<RulesPage />} />
                          <Route
                            path="*"
                            element={
                              <>
                                <Title>Nothing is here</Title>
                                <Empty>There is no such page. Press / to search.</Empty>
                              </>
                            }
                          />
                        </Routes>
                      </Suspense>
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
