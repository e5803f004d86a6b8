import { may, useHealth, useSession } from "./api/hooks";
import type { ReactNode } from "react";
import type { Session } from "./api/client";
import { AccessPage } from "./pages/AccessPage";
import { AccountPage } from "./pages/AccountPage";
import { FieldPage } from "./pages/FieldPage";
import { LinksPage } from "./pages/LinksPage";
import { LoginPage } from "./pages/LoginPage";
import { NowPage } from "./pages/NowPage";
import { TrendsPage } from "./pages/TrendsPage";
import { AccountMenu } from "./parts/AccountMenu";
import { Link } from "./parts/Link";
import { ThemeButton } from "./parts/ThemeButton";
import { useAddress } from "./router";

/* A page that has a role is for those who have it, and see all that the service holds. */
const pages = [
  { at: "/", name: "Now", show: NowPage },
  { at: "/trends", name: "Trends", show: TrendsPage },
  { at: "/field", name: "Field", role: "engineer", show: FieldPage },
  { at: "/links", name: "Links", show: LinksPage },
  { at: "/access", name: "Access", role: "administrator", show: AccessPage },
  { at: "/account", name: "Account", hidden: true, show: AccountPage },
];

export function App() {
  const session = useSession();
  const who = session.data;
  return (
    <div className="mx-auto max-w-6xl px-4 pb-16">
      {session.error && (
        <p role="alert" className="mt-4 rounded-sheet bg-bad-wash px-3 py-2 text-bad">
          The service does not answer: {session.error.message}
        </p>
      )}
      {who?.open && (
        <p role="alert" className="mt-4 rounded-sheet bg-stale-wash px-3 py-2 text-stale">
          This service is open: whoever reaches it may see and change everything. Its configuration says open:
          true.
        </p>
      )}
      {who && who.login_needed && who.kind === "anyone" && (
        <>
          <Head />
          <LoginPage session={who} />
        </>
      )}
      {who && !(who.login_needed && who.kind === "anyone") && <Pages session={who} />}
    </div>
  );
}

function Head({ place = "", children }: { place?: string; children?: ReactNode }) {
  return (
    <header className="flex flex-wrap items-baseline gap-x-6 gap-y-2 border-b-2 border-ink pt-4 pb-2">
      <p className="text-lg font-semibold">
        Nexocumula <span className="font-normal text-soft">{place}</span>
      </p>
      {children}
      {!children && (
        <div className="ml-auto">
          <ThemeButton />
        </div>
      )}
    </header>
  );
}

function Pages({ session }: { session: Session }) {
  const address = useAddress();
  const health = useHealth();
  const mine = pages.filter((p) => !p.role || may(session, p.role));
  const page = mine.find((p) => p.at === address.pathname);
  return (
    <>
      <Head place={health.data?.site}>
        <nav aria-label="Pages" className="flex flex-wrap gap-1">
          {mine
            .filter((p) => !p.hidden)
            .map((p) => (
              <Link
                key={p.at}
                to={p.at}
                current={p === page}
                className="rounded-sheet px-3 py-1 hover:bg-sheet aria-[current=page]:bg-ink aria-[current=page]:text-paper"
              >
                {p.name}
              </Link>
            ))}
        </nav>
        <div className="ml-auto flex items-baseline gap-2">
          <AccountMenu session={session} />
          <ThemeButton />
        </div>
      </Head>
      {health.error && (
        <p role="alert" className="mt-4 rounded-sheet bg-bad-wash px-3 py-2 text-bad">
          The service does not answer: {health.error.message}
        </p>
      )}
      {health.data?.troubles.map((t) => (
        <p key={t} role="alert" className="mt-4 rounded-sheet bg-stale-wash px-3 py-2 text-stale">
          {t}
        </p>
      ))}
      <main className="mt-6">
        {page ? <page.show /> : <p>There is no page at {address.pathname} for you.</p>}
      </main>
    </>
  );
}
