import { signal } from "../signal";

export type Around = "palette" | "help" | "preferences";

/** Opens what stands around all pages. */
export const aroundOpened = signal<Around>();
