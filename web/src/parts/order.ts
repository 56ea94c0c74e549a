const collator = new Intl.Collator(undefined, { numeric: true }); // far faster than localeCompare with thousands of nodes

/** Compares names as people read them: kiln-2 comes before kiln-10. */
export const natural = (a: string, b: string) => collator.compare(a, b);
