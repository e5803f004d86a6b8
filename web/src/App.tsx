import { lazy, Suspense, useEffect, useLayoutEffect, useMemo } from "react";
import { useRecentPages } from "./around/recent";
import { Route, Routes, useLocation } from "react-router";
import { Unreachable, type Session } from "./api/client";
import { has, may, noteSeen, useHealth, useSession } from "./api/hooks";
import { Around } from "./around/Around";
import { ErrorBoundary } from "./around/ErrorBoundary";
import { Masthead } from "./around/Masthead";
import { NoConnection } from "./around/NoConnection";
import { WrongClock } from "./around/WrongClock";
import { button } from "./parts/Field";
import { watchFocus } from "./parts/focus";
import { Hatch } from "./parts/Hatch";
import { PageWaiting } from "./parts/Waiting";
import { useInnerLinks } from "./router";
import { pages } from "./routes";

const LoginPage = lazy(async () => ({ default: (await import("./pages/LoginPage")).LoginPage }));

export function App() {
  useInnerLinks();
  useEffect(watchFocus, []);
  const session = useSession();
  const who = session.data;
  const login = who?.login_needed === true && who.kind === "anyone";
  useEffect(() => {
    if (who) noteSeen(!login);
  }, [who, login]);
  return (
    <>
      <Hatch />
      {!who && (
        <div className="mx-auto max-w-[110rem] px-4">
          {session.failureCount === 0 && !session.error && <PageWaiting>Checking your session …</PageWaiting>}
          <NoConnection />
          {session.failureReason && !(session.failureReason instanceof Unreachable) && (
            <div role="alert" className="mt-6">
              <p className="text-bad">{session.failureReason.message}</p>
              {session.error ? (
                <button type="button" className={`${button} mt-2`} onClick={() => void session.refetch()}>
                  Try again
                </button>
              ) : (
                <p className="mt-1 text-soft">It is tried again by itself.</p>
              )}
            </div>
          )}
        </div>
      )}
      {who?.open && (
        <p role="alert" className="bg-stale-wash px-4 py-2 text-stale">
          This service is open: whoever reaches it may see and change everything. Its configuration says open:
          true.
        </p>
      )}
      {who && login && (
        <div className="mx-auto max-w-6xl px-4 pb-16">
          <Masthead pages={[]} />
          <NoConnection />
          <main>
            <Suspense fallback={<PageWaiting />}>
              <LoginPage session={who} />
            </Suspense>
          </main>
        </div>
      )}
      {who && !login && <Pages session={who} />}
    </>
  );
}

function Pages({ session }: { session: Session }) {
  const { pathname } = useLocation();
  const health = useHealth();
  const mine = useMemo(
    () => pages.filter((p) => !p.role || (p.whole ? may(session, p.role) : has(session, p.role))),
    [session],
  );
  const name = mine.find((p) => p.at === pathname)?.name;
  // Before the page's own effects, as a page may have a title of its own.
  useLayoutEffect(() => {
    document.title = [name, health.data?.site, "Nexocumula"].filter(Boolean).join(" – ");
  }, [name, health.data?.site, pathname]);
  useRecentPages();
  const bare = mine.some((p) => p.bare && p.at === pathname);
  return (
    <div className={bare ? "" : "mx-auto max-w-[110rem] px-4 pb-16"}>
      {!bare && (
        <Masthead place={health.data?.site} session={session} pages={mine.filter((p) => !p.hidden)} />
      )}
      {!bare && <NoConnection />}
      {!bare && <WrongClock />}
      <main id="main" tabIndex={-1} className={bare ? "" : "mt-3 outline-none"}>
        <ErrorBoundary key={pathname}>
          <Suspense fallback={<PageWaiting />}>
            <Routes>
              {mine.map((p) => (
                <Route key={p.at} path={p.at} element={<p.show />} />
              ))}
              <Route path="*" element={<p className="mt-6">There is no page at {pathname} for you.</p>} />
            </Routes>
          </Suspense>
        </ErrorBoundary>
      </main>
      <Around session={session} pages={mine} />
    </div>
  );
}
