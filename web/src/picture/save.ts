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
