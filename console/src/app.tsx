/** The frame of every page: name, pages, scope bar; panels beside it. */
import { lazy, Suspense, useEffect } from "react";
import { call, CallFailed, type Status } from "./api/client";
import { useMe, useStatus } from "./api/queries";
import { pageOf, pages, nameOf } from "./pages";
import { SignInPage } from "./pages/sign-in";
import { ScopeBar } from "./parts/scope-bar";
import { SettingsMenu } from "./parts/settings";
import { Failing, Loading } from "./parts/states";
import { usePreferences } from "./preferences";
import { addressOf, follow, isNarrowed, useScope, type Scope } from "./scope";
import { periodName } from "./scope/names";
import { todayIn } from "./scope/period";
import { words } from "./words";

const TrailPanel = lazy(() => import("./panels/trail"));
const PreludePanel = lazy(() => import("./panels/prelude"));
const FindingPanel = lazy(() => import("./panels/finding"));

export function App() {
  const status = useStatus();
  const [scope] = useScope();
  // Whatever people set for themselves changes everything that is shown.
  const set = JSON.stringify(usePreferences());
  const isSignedOut = status.error instanceof CallFailed && status.error.status === 401;
  useTitle(isSignedOut ? words.signIn.title : status.data ? titleOf(scope, status.data) : words.product);
  if (isSignedOut) return <SignInPage />;
  if (status.isError && !status.data) return <Failing error={status.error} again={() => void status.refetch()} />;
  if (!status.data) return <Loading />;
  const zone = status.data.time_zone;
  const page = pageOf(scope.page);
  return (
    <>
      <a href="#content" className="sr-only focus:not-sr-only focus:absolute focus:top-2 focus:left-2 focus:z-30 focus:bg-sheet focus:px-3 focus:py-1">
        {words.skip}
      </a>
      <Header scope={scope} />
      {page && <ScopeBar status={status.data} parts={page.scope} />}
      <main key={set} id="content" className="mx-auto max-w-[1600px] px-4 pt-3 pb-16 sm:px-5" aria-label={nameOf(scope.page)}>
        {page ? (
          <Suspense fallback={<Loading />}>
            <page.view zone={zone} />
          </Suspense>
        ) : (
          <NoPage scope={scope} />
        )}
      </main>
      <Suspense fallback={null}>
        {scope.trail && <TrailPanel zone={zone} />}
        {scope.prelude && <PreludePanel zone={zone} />}
        {scope.finding && <FindingPanel zone={zone} />}
      </Suspense>
    </>
  );
}

function Header({ scope }: { scope: Scope }) {
  const me = useMe();
  // What belongs to one view does not go along to the next page.
  const kept: Scope = { ...scope, trail: "", prelude: "", finding: "", measure: "", view: "", statement: "", chart: "" };
  return (
    <header className="border-b border-line bg-sheet print:hidden">
      <div className="mx-auto flex max-w-[1600px] flex-wrap items-center gap-x-6 gap-y-1 px-4 py-2.5 sm:px-5">
        <a href="/" className="flex items-center gap-2 font-semibold text-sea" onClick={follow({ ...kept, page: "now" })}>
          <Arc />
          {words.product}
        </a>
        <nav className="order-3 -mx-1 flex w-full overflow-x-auto sm:order-none sm:w-auto" aria-label={words.pagesLabel}>
          {pages().map(({ path }) => (
            <a
              key={path}
              href={addressOf({ ...kept, page: path })}
              onClick={follow({ ...kept, page: path })}
              aria-current={scope.page === path ? "page" : undefined}
              className="rounded-md px-2.5 py-1 text-quiet hover:text-ink aria-[current]:bg-sea-soft aria-[current]:font-semibold aria-[current]:text-sea"
            >
              {nameOf(path)}
            </a>
          ))}
        </nav>
        <div className="ml-auto">
          <SettingsMenu me={me.data} signOut={() => void signOut()} />
        </div>
      </div>
    </header>
  );
}

function NoPage({ scope }: { scope: Scope }) {
  return (
    <section className="mt-8">
      <h1 className="text-2xl font-semibold">{words.noPage.title}</h1>
      <p className="mt-2 break-all">{words.noPage.about(scope.page)}</p>
      <p className="mt-4 text-quiet">{words.noPage.instead}</p>
      <ul className="mt-1">
        {pages().map(({ path }) => (
          <li key={path}>
            <a href={addressOf({ ...scope, page: path })} onClick={follow({ ...scope, page: path })} className="text-sea underline">
              {nameOf(path)}
            </a>
            <span className="text-quiet"> · {words.pages[path as keyof typeof words.pages].question}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** A page's name and its scope, so that windows and bookmarks can be told apart. */
export function titleOf(scope: Scope, { time_zone }: Pick<Status, "time_zone">): string {
  const page = pageOf(scope.page);
  const period = page?.scope === "all" ? periodName(scope.period, todayIn(time_zone)) : "";
  const narrowed = page?.scope === "all" && isNarrowed(scope) ? words.scope.narrowed : "";
  return [nameOf(scope.page), scope.sites.join(", "), period, narrowed, words.product].filter(Boolean).join(" · ");
}

function useTitle(title: string) {
  useEffect(() => {
    document.title = title;
  }, [title]);
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
