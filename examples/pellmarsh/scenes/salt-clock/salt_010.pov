// Pellmarsh, "The Salt Clock", shot salt_010: the clock on the flats.
// 120 frames make one slow turn of the camera while the salt runs down.
#version 3.7;
global_settings { assumed_gamma 1.0 max_trace_level 4 }

#declare T = clock; // 0 to 1 over the shot

camera {
  location <0, 1.55, -5.4>
  look_at <0, 1.12, 0>
  angle 42
  rotate y*(-18 + 36*T)
}

light_source { <14, 5 + 2*T, -9> color rgb <1.35, 1.02, 0.74> }
light_source { <-8, 9, -3> color rgb <0.14, 0.19, 0.30> shadowless }

sky_sphere {
  pigment {
    gradient y
    color_map {
      [0.00 rgb <0.98, 0.62, 0.34>]
      [0.06 rgb <0.86, 0.44, 0.34>]
      [0.16 rgb <0.46, 0.28, 0.38>]
      [0.34 rgb <0.14, 0.15, 0.32>]
      [1.00 rgb <0.03, 0.05, 0.14>]
    }
  }
}

// The salt flats: pale, cracked, a little wet.
plane {
  y, 0
  pigment {
    crackle scale 1.1
    color_map { [0.00 rgb <0.22, 0.18, 0.18>] [0.04 rgb <0.50, 0.43, 0.41>] [0.40 rgb <0.66, 0.60, 0.57>] }
  }
  finish { ambient 0.05 diffuse 0.75 reflection { 0.0, 0.12 } }
}

#declare Wood = texture {
  pigment { wood turbulence 0.06 scale 0.06 rotate <88, 0, 20>
    color_map { [0.0 rgb <0.32, 0.15, 0.08>] [0.5 rgb <0.46, 0.24, 0.12>] [1.0 rgb <0.24, 0.11, 0.06>] } }
  finish { diffuse 0.75 specular 0.35 roughness 0.02 }
}
#declare Salt = texture {
  pigment { rgb <0.93, 0.88, 0.82> }
  finish { ambient 0.10 diffuse 0.8 specular 0.2 roughness 0.05 }
}

// One bulb, standing on the waist: a ball on a funnel. R shrinks it for what
// is inside.
#macro Bulb(R)
  merge {
    sphere { <0, 0.50, 0>, 0.44*R }
    cone { <0, 0, 0>, 0.030*R, <0, 0.315, 0>, 0.40*R }
  }
#end

#declare Glass = material {
  texture {
    pigment { rgbt <0.94, 0.98, 0.98, 0.90> }
    finish { ambient 0 diffuse 0.05 specular 0.9 roughness 0.002 reflection { 0.02, 0.35 fresnel on } conserve_energy }
  }
  interior { ior 1.06 }
}

#declare Turn = union {
  // plates and posts
  cylinder { <0, -1.06, 0>, <0, -0.95, 0>, 0.62 texture { Wood } }
  cylinder { <0, 0.95, 0>, <0, 1.06, 0>, 0.62 texture { Wood } }
  torus { 0.62, 0.045 translate -1.005*y texture { Wood } }
  torus { 0.62, 0.045 translate 1.005*y texture { Wood } }
  #for (I, 0, 2)
    union {
      cylinder { <0, -0.95, 0>, <0, 0.95, 0>, 0.035 }
      sphere { 0, 0.065 scale <1, 1.6, 1> }
      sphere { -0.6*y, 0.05 } sphere { 0.6*y, 0.05 }
      translate 0.54*x rotate y*(120*I + 40)
      texture { Wood }
    }
  #end
  merge {
    object { Bulb(1) }
    object { Bulb(1) scale <1, -1, 1> }
    hollow
    material { Glass }
  }
  // salt above: what is below the level inside the bulb
  #if (T < 0.97)
    intersection {
      object { Bulb(0.95) }
      plane { y, 0.80 - 0.74*T }
      texture { Salt }
    }
  #end
  // the thread that falls, and the heap
  #if (T < 0.985)
    cylinder { <0, -0.93, 0>, <0, 0.05, 0>, 0.011 texture { Salt } }
  #end
  intersection {
    object { Bulb(0.95) scale <1, -1, 1> }
    cone { <0, -1.0, 0>, 0.72, <0, -0.93 + 0.66*sqrt(T), 0>, 0 }
    texture { Salt }
  }
}

object { Turn rotate y*25 translate 1.06*y }

// Three worn posts towards the horizon, and a second clock that has stopped.
#for (I, 1, 5)
  cylinder { <0, -0.2, 0>, <0, 0.75, 0>, 0.06
    texture { Wood } rotate z*(4*sin(I*7)) translate <-2.3 - 0.9*I, 0, 1.5 + 2.6*I> }
#end
union {
  cylinder { <0, -1.06, 0>, <0, -0.95, 0>, 0.62 } cylinder { <0, 0.95, 0>, <0, 1.06, 0>, 0.62 }
  #for (I, 0, 2) cylinder { <0, -0.95, 0>, <0, 0.95, 0>, 0.035 translate 0.54*x rotate y*120*I } #end
  texture { Wood } rotate z*90 rotate y*-35 scale 0.8 translate <3.0, 0.5, 3.6>
}
