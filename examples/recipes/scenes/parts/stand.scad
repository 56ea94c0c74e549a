// What the vase stands on.
module stand() { cylinder(h = 4, r1 = 14, r2 = 11); }
