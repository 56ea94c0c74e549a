// Pellmarsh, "Tidal Room", shot tidal_floor: lamps sink under the tide.
#version 3.7;
global_settings { assumed_gamma 1.0 max_trace_level 4 }
#declare T = clock;
camera { location <0, 2.4, -6.5> look_at <0, 0.35, 0> angle 44 rotate y*(20*sin(2*pi*T)) }
light_source { <-6, 10, -6> color rgb <0.25, 0.40, 0.55> }
background { rgb <0.010, 0.018, 0.035> }
plane {
  y, 0
  pigment { rgb <0.02, 0.10, 0.14> }
  normal { bumps 0.25 scale <0.9, 0.4, 0.35> translate <T*1.6, 0, T> }
  finish { ambient 0.02 diffuse 0.4 specular 0.8 roughness 0.01 reflection { 0.25, 0.75 } }
}
#for (I, 0, 8)
  #local A = 40*I + 30*T;
  #local H = 0.45 + 0.55*sin(2*pi*(T + I/9));
  union {
    sphere { 0, 0.34
      pigment { rgb <1.0, 0.62 + 0.035*I, 0.28 + 0.07*I> }
      finish { ambient 0.95 diffuse 0.3 } }
    torus { 0.36, 0.03 pigment { rgb <0.45, 0.32, 0.16> } finish { specular 0.6 } }
    cylinder { 0.34*y, 0.52*y, 0.05 pigment { rgb <0.45, 0.32, 0.16> } }
    translate <2.4*cos(radians(A)), H, 2.0*sin(radians(A))>
  }
#end
