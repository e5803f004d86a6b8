import { Link } from "../parts/Link";

/** Words, with links as [words](address). Addresses are pages of the console, or of the web. */
export function TextRow({ text }: { text: string }) {
  return (
    <div className="max-w-prose px-1 py-1 whitespace-pre-wrap">
      {partsOf(text).map((p, i) => {
        if (p.to === undefined) return <span key={i}>{p.text}</span>;
        if (p.to.startsWith("/"))
          return (
            <Link key={i} to={p.to} className="underline">
              {p.text}
            </Link>
          );
        return (
          <a key={i} href={p.to} rel="noreferrer" target="_blank" className="underline">
            {p.text}
          </a>
        );
      })}
    </div>
  );
}

export interface Part {
  text: string;
  to?: string;
}

/** The parts of a text; what leads neither to a page nor to the web stays text. */
export function partsOf(text: string): Part[] {
  const out: Part[] = [];
  let done = 0;
  for (const found of text.matchAll(/\[([^\]]+)\]\(([^)\s]+)\)/g)) {
    const [whole, words = "", to = ""] = found;
    if (!/^(https?:\/\/|\/(?!\/))/.test(to)) continue;
    if (found.index > done) out.push({ text: text.slice(done, found.index) });
    out.push({ text: words, to });
    done = found.index + whole.length;
  }
  if (done < text.length) out.push({ text: text.slice(done) });
  return out;
}
