// A vase that turns.
use <parts/stand.scad>
$fn = 24;
rotate([0, 0, 360 * $t]) {
  difference() {
    cylinder(h = 30, r1 = 10, r2 = 15);
    translate([0, 0, 2]) cylinder(h = 30, r1 = 8, r2 = 13);
    translate([12, 0, 15]) cube(8, center = true);
  }
  translate([0, 0, -4]) stand();
}
