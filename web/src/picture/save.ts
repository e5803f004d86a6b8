/** Has the browser save something as a file. */
export function save(what: Blob, name: string) {
  const at = URL.createObjectURL(what);
  const link = document.createElement("a");
  link.href = at;
  link.download = name;
  document.body.append(link);
  link.click();
  link.remove();
  setTimeout(() => URL.revokeObjectURL(at), 10_000);
}

/** What a file of something with a title is called. */
export const fileName = (title: string) =>
  title
    .toLowerCase()
    .replace(/[^\p{L}\p{N}]+/gu, "-")
    .replace(/^-|-$/g, "") || "lane";
