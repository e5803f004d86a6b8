import { CircleHelp, Search, Settings2 } from "lucide-react";
import { useEffect, useRef, type ReactNode } from "react";
import { useLocation } from "react-router";
import type { Session } from "../api/client";
import type { Page } from "../routes";
import { AccountMenu } from "../parts/AccountMenu";
import { Link } from "../parts/Link";
import { ThemeButton } from "../parts/ThemeButton";
import { aroundOpened, type Around } from "./open";

interface Props {
  place?: string;
  session?: Session;
  pages: Page[];
}

const tool = "flex items-center gap-1 rounded-sheet px-2 py-1 text-soft hover:bg-sheet";

/** The head of every page: where one is, and the ways to the others. */
export function Masthead({ place = "", session, pages }: Props) {
  const { pathname } = useLocation();
  const nav = useRef<HTMLElement>(null);
  useEffect(() => {
    // On a phone the pages are wider than the screen.
    nav.current?.querySelector("[aria-current]")?.scrollIntoView({ block: "nearest", inline: "nearest" });
  }, [pathname]);
  const current = (p: Page) => p.at === pathname || (p.at !== "/" && pathname.startsWith(p.at + "/"));
  return (
    <header className="grid grid-cols-[minmax(0,1fr)_auto] items-baseline gap-x-2 border-b-2 border-ink pt-1 pb-1 sm:flex sm:flex-wrap sm:gap-x-5 sm:gap-y-2 sm:pt-3 sm:pb-2 print:hidden">
      <a href="#main" className="sr-only focus:not-sr-only">
        To the page
      </a>
      <p className="truncate text-lg font-semibold">
        Nexocumula <span className="font-normal text-soft">{place}</span>
      </p>
      {pages.length > 0 && (
        <nav
          ref={nav}
          aria-label="Pages"
          className="flex gap-1 overflow-x-auto whitespace-nowrap max-sm:[mask-image:linear-gradient(to_right,black_calc(100%-2rem),transparent)] max-sm:scroll-pe-8 max-sm:pr-8 max-sm:order-last max-sm:col-span-2 sm:flex-wrap"
        >
          {pages.map((p) => (
            <Link
              key={p.at}
              to={p.at}
              current={current(p)}
              className="rounded-sheet px-2.5 py-1 -outline-offset-2 hover:bg-sheet aria-[current=page]:bg-ink aria-[current=page]:text-paper"
            >
              {p.name}
            </Link>
          ))}
        </nav>
      )}
      <div className="ml-auto flex items-center sm:flex-wrap sm:gap-1">
        {session && (
          <>
            <button
              type="button"
              className={tool}
              onClick={() => aroundOpened.tell("palette")}
              aria-keyshortcuts="Control+K"
            >
              <Search size={16} aria-hidden /> <span className="sr-only sm:not-sr-only">Find</span>
              <kbd className="hidden text-xs lg:inline">Ctrl K</kbd>
            </button>
            <Tool name="Help for this page" hint="Help for this page: ?" opens="help">
              <CircleHelp size={16} aria-hidden />
            </Tool>
            <Tool name="Units and clocks" hint="Units and clocks" opens="preferences">
              <Settings2 size={16} aria-hidden />
            </Tool>
            <AccountMenu session={session} />
          </>
        )}
        <ThemeButton />
      </div>
    </header>
  );
}

function Tool({
  name,
  hint,
  opens,
  children,
}: {
  name: string;
  hint: string;
  opens: Around;
  children: ReactNode;
}) {
  return (
    <button
      type="button"
      className={tool}
      aria-label={name}
      title={hint}
      onClick={() => aroundOpened.tell(opens)}
    >
      {children}
    </button>
  );
}
