export type Around = "palette" | "help" | "preferences";

export const aroundEvent = "openaround";

/** Opens what stands around all pages. */
export function openAround(what: Around) {
  dispatchEvent(new CustomEvent<Around>(aroundEvent, { detail: what }));
}
