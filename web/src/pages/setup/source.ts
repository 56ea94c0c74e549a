/** Where a version of a recipe came from. */
export function source(v: { origin: string; by: string }) {
  if (v.origin === "shipped") {
    return "shipped with vexillum";
  }
  return v.origin === "folder" ? `from a folder of ${v.by}` : `by ${v.by}`;
}
