/** Bytes in Base64, sixteen a line: where they are, in hexadecimal, and as ASCII; and as text where they are one. */
export function dump(base64: string): { length: number; lines: string[]; text: string | null } {
  const bytes = Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
  const lines: string[] = [];
  for (let at = 0; at < bytes.length; at += 16) {
    const part = [...bytes.slice(at, at + 16)];
    const hex = part.map((b) => b.toString(16).padStart(2, "0")).join(" ");
    const ascii = part.map((b) => (b >= 32 && b < 127 ? String.fromCharCode(b) : "·")).join("");
    lines.push(`${at.toString(16).padStart(4, "0")}  ${hex.padEnd(47)}  ${ascii}`);
  }
  let text: string | null = null;
  try {
    const read = new TextDecoder("utf-8", { fatal: true }).decode(bytes);
    if (read !== "" && !/\p{Cc}/u.test(read.replace(/[\n\r\t]/g, ""))) text = read;
  } catch {
    // not text
  }
  return { length: bytes.length, lines, text };
}
