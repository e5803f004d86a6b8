/* Numbers as the viewer's own country writes them. */

/** A form for each range of decimals, made once: thousands of numbers are written each second. */
const formats = new Map<number, Intl.NumberFormat>();

function format(least: number, most: number): Intl.NumberFormat {
  const key = least * 100 + most;
  let found = formats.get(key);
  if (!found) {
    found = new Intl.NumberFormat(undefined, { minimumFractionDigits: least, maximumFractionDigits: most });
    formats.set(key, found);
  }
  return found;
}

export const nothing = "–";

const raised: Record<string, string> = { "-": "⁻", ...Object.fromEntries([..."⁰¹²³⁴⁵⁶⁷⁸⁹"].entries()) };

/** Three significant digits and a power of ten, for what would otherwise be many zeros. */
function powerOfTen(value: number): string {
  const [digits = "", exponent = ""] = value.toExponential(2).split("e");
  const power = [...exponent.replace("+", "")].map((c) => raised[c] ?? "").join("");
  return `${format(2, 2).format(Number(digits))} × 10${power}`;
}

/** A value with as many decimals as its size deserves; what is not 0 is never shown as 0. */
export function number(value: number | null | undefined, digits = 4): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return nothing;
  if (value === 0) return "0"; // also -0
  const size = Math.abs(value);
  if (size < 0.001 || size >= 1e12) return powerOfTen(value);
  const whole = size < 1 ? 1 : Math.floor(Math.log10(size)) + 1;
  const decimals = Math.max(0, Math.min(3, digits - whole));
  return format(0, decimals).format(value);
}

/** A value with so many decimals, so that numbers below one another align. */
export function fixed(value: number | null | undefined, decimals: number): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return nothing;
  const size = Math.abs(value);
  if (size !== 0 && (size < 0.5 * 10 ** -decimals || size >= 1e12)) return number(value);
  return format(decimals, decimals).format(value === 0 ? 0 : value);
}

/** How many decimals of a value its instrument gave: those it was sent with, three at most. */
export function decimalsOf(value: number | null | undefined): number {
  if (value === null || value === undefined || !Number.isFinite(value)) return 0;
  const [, after = ""] = String(value).split(".");
  return after.includes("e") ? 3 : Math.min(3, after.length);
}

const most = new Map<string, number>();

/** How many decimals a series has, by all of its values that were seen, so that 12.30 does not become 12.3. */
export function decimalsOfSeries(path: string, value: number | null | undefined): number {
  const seen = Math.max(most.get(path) ?? 0, decimalsOf(value));
  most.set(path, seen);
  return seen;
}

/** A whole number. */
export const count = (n: number) => format(0, 0).format(n);

export const percent = (share: number | null | undefined, decimals = 1) =>
  share === null || share === undefined ? nothing : `${fixed(share * 100, decimals)} %`;

/** The latest value for people: what a state is called, or the number. */
export function reading(value: number | null, state: string): string {
  return state || number(value, 5);
}

/** What a state of a value is called, or the number. */
export function stateName(
  states: Record<string, number> | undefined,
  value: number | null | undefined,
): string {
  const found = Object.entries(states ?? {}).find(([, v]) => v === value);
  return found ? found[0] : number(value);
}

export function age(ms: number): string {
  const s = Math.max(0, Math.round(ms / 1000));
  if (s < 120) return `${s} s`;
  if (s < 7200) return `${Math.round(s / 60)} min`;
  if (s < 172_800) return `${Math.round(s / 3600)} h`;
  return `${Math.round(s / 86_400)} d`;
}

export function moment(text: string | null | undefined): string {
  if (!text) return "never";
  return text.slice(0, 19).replace("T", " ") + " UTC";
}

export function words(name: string): string {
  return name.replaceAll("_", " ");
}

/** A path for people, without its site where that is said already. */
export function pathWords(path: string, site?: string): string {
  const levels = path.split("/");
  if (site !== undefined && levels[0] === site) levels.shift();
  return words(levels.join(", "));
}

export const last = (path: string) => path.slice(path.lastIndexOf("/") + 1);
