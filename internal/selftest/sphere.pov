// The frame that a node renders to show that its POV-Ray does as others do.
#version 3.7;
global_settings { assumed_gamma 1.0 }
camera { location <0, 1.2, -4> look_at <0, 0.6, 0> right x*16/9 angle 50 }
light_source { <-4, 6, -5> rgb 1.2 }
plane { y, 0 pigment { checker rgb <0.86, 0.82, 0.74> rgb <0.30, 0.33, 0.38> } finish { diffuse 0.8 } }
sphere { <0, 0.8, 0>, 0.8 pigment { rgb <0.60, 0.16, 0.14> } finish { diffuse 0.7 specular 0.4 roughness 0.03 reflection 0.12 } }
cylinder { <1.5, 0, 0.6>, <1.5, 1.4, 0.6>, 0.25 pigment { rgb <0.75, 0.60, 0.28> } finish { diffuse 0.8 } }
sky_sphere { pigment { gradient y color_map { [0 rgb <0.75, 0.82, 0.90>] [1 rgb <0.25, 0.38, 0.58>] } } }
