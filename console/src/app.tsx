/** The frame of every page: name, pages, scope bar. */
import { lazy, Suspense } from "react";
import { call, CallFailed } from "./api/client";
import { useStatus } from "./api/queries";
import { NowPage } from "./pages/now";
import { SignInPage } from "./pages/sign-in";
import { ScopeBar } from "./parts/scope-bar";
import { Failing, Loading } from "./parts/states";
import { addressOf, go, useScope } from "./scope";
import { words } from "./words";

// The first view does not wait for pages that nobody has asked for.
const SitesPage = lazy(() => import("./pages/sites").then((module) => ({ default: module.SitesPage })));
const TrafficPage = lazy(() => import("./pages/traffic").then((module) => ({ default: module.TrafficPage })));

export function App() {
  const status = useStatus();
  const [scope] = useScope();
  if (status.error instanceof CallFailed && status.error.status === 401) return <SignInPage />;
  if (status.isError && !status.data) {
    return <Failing error={status.error} again={() => void status.refetch()} />;
  }
  if (!status.data) return <Loading />;
  const zone = status.data.time_zone;
  const pages = Object.entries(words.pages);
  return (
    <>
      <header className="border-b border-line bg-sheet">
        <div className="mx-auto flex max-w-[1600px] flex-wrap items-center gap-x-8 gap-y-2 px-5 py-3">
          <a href="/" className="flex items-center gap-2 font-semibold text-sea" onClick={visit("now")}>
            <Arc />
            {words.product}
          </a>
          <nav className="flex gap-1" aria-label="Pages">
            {pages.map(([page, name]) => (
              <a
                key={page}
                href={addressOf({ ...scope, page })}
                onClick={visit(page)}
                aria-current={scope.page === page ? "page" : undefined}
                className="rounded-md px-3 py-1 text-quiet hover:text-ink aria-[current]:bg-sea-soft aria-[current]:font-semibold aria-[current]:text-sea"
              >
                {name}
              </a>
            ))}
          </nav>
          <button type="button" className="ml-auto text-quiet hover:text-ink" onClick={() => void signOut()}>
            {words.signOut}
          </button>
        </div>
      </header>
      <ScopeBar status={status.data} />
      <main className="mx-auto max-w-[1600px] px-5 pb-16">
        <Suspense fallback={<Loading />}>
          {scope.page === "traffic" ? <TrafficPage zone={zone} /> : scope.page === "sites" ? <SitesPage /> : <NowPage zone={zone} />}
        </Suspense>
      </main>
    </>
  );

  function visit(page: string) {
    return (event: React.MouseEvent) => {
      if (event.metaKey || event.ctrlKey || event.shiftKey) return;
      event.preventDefault();
      go({ ...scope, page });
    };
  }
}

async function signOut() {
  await call("sign-out", { method: "POST" });
  window.location.assign("/");
}

function Arc() {
  return (
    <svg viewBox="0 0 32 20" className="h-5 w-8" fill="none" stroke="currentColor" strokeWidth="3.4" aria-hidden="true">
      <path d="M3 18a13 13 0 0 1 26 0M10 18a6 6 0 0 1 12 0" />
    </svg>
  );
}
