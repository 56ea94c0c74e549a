/** The names in a list with commas. */
export const names = (text: string) =>
  text
    .split(",")
    .map((n) => n.trim())
    .filter(Boolean);
