/** Bytes in Base64 as text where they are text, otherwise in hexadecimal. */
export function preview(base64: string): string {
  const bytes = Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
  try {
    const text = new TextDecoder("utf-8", { fatal: true }).decode(bytes);
    if (!/\p{Cc}/u.test(text.replace(/[\n\r\t]/g, ""))) return text;
  } catch {
    // not text
  }
  return `0x${[...bytes].map((b) => b.toString(16).padStart(2, "0")).join("")}`;
}

/** A text, or registers written as numbers, as bytes in Base64. */
export function base64(text: string, registers: boolean): string {
  const bytes = registers
    ? text
        .split(/[\s,]+/)
        .filter(Boolean)
        .flatMap((word) => [(Number(word) >> 8) & 255, Number(word) & 255])
    : [...new TextEncoder().encode(text)];
  return btoa(String.fromCharCode(...bytes));
}
