/** Colours that tell nodes or runs apart. None of them is that of a state, and all stand out on the ground of
 * both themes. */
export const apart = ["#5b6f8f", "#c2607f", "#7c8a3a", "#2f8f9d", "#9a7659", "#6a65c4", "#7d8590"] as const;
