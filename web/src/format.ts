/** A value with as many decimals as its size deserves. */
export function number(value: number | null | undefined, digits = 4): string {
  if (value === null || value === undefined) return "–";
  const size = Math.abs(value);
  const whole = size < 1 ? 1 : Math.floor(Math.log10(size)) + 1;
  const decimals = Math.max(0, Math.min(3, digits - whole));
  return value.toLocaleString("en-GB", { maximumFractionDigits: decimals, minimumFractionDigits: 0 });
}

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
