import { Color, Vector3, Vector4 } from 'three'
import { scale } from '../../theme/tokens'

/** Colours of ordered values: `ramped` gives that of a value in `range`. */
export const ramped = /* glsl */ `
  uniform vec3 ramp[5];
  uniform vec2 range;

  vec3 ramped(float v) {
    float t = clamp((v - range.x) / max(range.y - range.x, 1e-6), 0.0, 1.0) * 4.0;
    vec3 c = ramp[0];
    for (int i = 0; i < 4; i++) {
      c = mix(c, ramp[i + 1], clamp(t - float(i), 0.0, 1.0));
    }
    return c;
  }
`

/**
 * A cut through a closed mesh: what lies beyond its plane is away, and whatever looks at a back face
 * looks at the cut in front of it.
 */
export const cutFace = /* glsl */ `
  uniform vec4 cut;
  uniform bool cutting;
  uniform vec3 eye;
  /** Width of a pixel at a distance of one. */
  uniform float pixel;

  bool isCutAway(vec3 p) {
    return cutting && dot(p, cut.xyz) > cut.w;
  }

  /** The place on the cut that is looked at, in front of a place behind it. */
  vec3 onCut(vec3 behind) {
    vec3 ray = behind - eye;
    return eye + ray * ((cut.w - dot(eye, cut.xyz)) / dot(ray, cut.xyz));
  }

  float pixelAt(vec3 p) {
    return pixel * distance(p, eye);
  }
`

export const rampUniforms = () => ({
  ramp: { value: scale.map((hex) => new Color(hex)) },
  range: { value: [0, 1] },
})

export const cutUniforms = () => ({
  cut: { value: new Vector4(0, 1, 0, 0) },
  cutting: { value: false },
  eye: { value: new Vector3() },
  pixel: { value: 0 },
})
