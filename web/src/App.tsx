import { useHealth } from "./api/hooks";
import { FieldPage } from "./pages/FieldPage";
import { LinksPage } from "./pages/LinksPage";
import { NowPage } from "./pages/NowPage";
import { TrendsPage } from "./pages/TrendsPage";
import { Link } from "./parts/Link";
import { ThemeButton } from "./parts/ThemeButton";
import { useAddress } from "./router";

const pages = [
  { at: "/", name: "Now", show: NowPage },
  { at: "/trends", name: "Trends", show: TrendsPage },
  { at: "/field", name: "Field", show: FieldPage },
  { at: "/links", name: "Links", show: LinksPage },
];

export function App() {
  const address = useAddress();
  const health = useHealth();
  const page = pages.find((p) => p.at === address.pathname);
  const place = health.data?.gateway?.site ?? (health.data?.central ? "central" : "");
  return (
    <div className="mx-auto max-w-6xl px-4 pb-16">
      <header className="flex flex-wrap items-baseline gap-x-6 gap-y-2 border-b-2 border-ink pt-4 pb-2">
        <p className="text-lg font-semibold">
          Nexocumula <span className="font-normal text-soft">{place}</span>
        </p>
        <nav aria-label="Pages" className="flex gap-1">
          {pages.map((p) => (
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
        <div className="ml-auto">
          <ThemeButton />
        </div>
      </header>
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
      <main className="mt-6">{page ? <page.show /> : <p>There is no page at {address.pathname}.</p>}</main>
    </div>
  );
}
