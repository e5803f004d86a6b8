/** What a link is called by people. */
export function linkWords(link: string): string {
  const [way, ...name] = link.split(" ");
  return way === "source" ? `source ${name.join(" ")}` : `link ${link}`;
}
