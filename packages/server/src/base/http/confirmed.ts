/** For so long somebody counts as having shown who they are, ms. */
export const confirmedForMs = 10 * 60_000;
