import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useLocation, useParams } from "react-router";
import { ask, askText } from "../api/client";
import { Link } from "../parts/Link";
import { Failed } from "../parts/Said";
import { PageWaiting } from "../parts/Waiting";

/** A page of the manual, which the service has with it. */
export function DocsPage() {
  const { page = "README" } = useParams();
  const { hash } = useLocation();
  const pages = useQuery({ queryKey: ["manual"], queryFn: () => ask("manual"), staleTime: Infinity });
  const text = useQuery({
    queryKey: ["manual", page],
    queryFn: () => askText("manual/{page}", { page }),
    staleTime: Infinity,
  });
  useEffect(() => {
    if (!text.data) return;
    const at = hash ? document.getElementById(decodeURIComponent(hash.slice(1))) : null;
    if (at) at.scrollIntoView();
    else window.scrollTo(0, 0);
  }, [text.data, hash]);
  const here = pages.data?.pages.find((p) => p.name === page);
  return (
    <div className="mt-4 grid gap-x-8 gap-y-4 lg:grid-cols-[14rem_1fr]">
      <nav aria-label="Pages of the manual" className="text-sm print:hidden lg:sticky lg:top-4 lg:self-start">
        <ul className="flex flex-wrap gap-x-4 gap-y-1 lg:block">
          {pages.data?.pages.map((p) => (
            <li key={p.name}>
              <Link
                to={`/docs/${p.name}`}
                className={p.name === page ? "font-semibold" : "underline"}
                current={p.name === page}
              >
                {p.title}
              </Link>
              {p.name === page && (
                <ul className="hidden pl-3 text-soft lg:block">
                  {here?.headings.map((h) => (
                    <li key={h.id}>
                      <Link to={`/docs/${page}#${h.id}`} className="hover:underline">
                        {h.text}
                      </Link>
                    </li>
                  ))}
                </ul>
              )}
            </li>
          ))}
        </ul>
      </nav>
      {text.error ? (
        <Failed error={text.error} />
      ) : text.data ? (
        <article
          data-manual={page}
          className="manual min-w-0 max-w-[75ch]"
          // The page is a part of the service itself.
          dangerouslySetInnerHTML={{ __html: text.data }}
        />
      ) : (
        <PageWaiting>Opening the manual …</PageWaiting>
      )}
    </div>
  );
}
