import {
  Color,
  DoubleSide,
  Euler,
  Matrix4,
  Quaternion,
  ShaderMaterial,
  Vector3,
  Vector4,
} from 'three'
import type { Place } from '../../api/client'
import { materials, plainCut } from '../../theme/tokens'
import { cutFace, cutUniforms, ramped, rampUniforms } from './glsl'

/**
 * Lit from the camera's upper left with soft light from above and below, shaded by the openness
 * baked into every point. Back faces seen through the cut are the cut's caps: the mesh is closed, so
 * whatever looks at a back face looks into solid material.
 */
const vertex = /* glsl */ `
  attribute float _role;
  attribute float _open;
  attribute float _thickness;
  attribute float beyond;
  varying vec3 vWorld;
  varying vec3 vNormal;
  varying float vOpen;
  varying float vRole;
  varying float vThickness;
  varying float vBeyond;
  void main() {
    vec4 world = modelMatrix * vec4(position, 1.0);
    vWorld = world.xyz;
    vNormal = normalize(mat3(modelMatrix) * normal);
    vOpen = _open / 255.0;
    vRole = _role;
    vThickness = _thickness;
    vBeyond = beyond;
    gl_Position = projectionMatrix * viewMatrix * world;
  }
`

const fragment = /* glsl */ `
  uniform int colourBy;
  uniform vec3 fill;
  uniform vec3 skin;
  uniform vec3 solid;
  /** Of cut faces where colours tell how thick walls are. */
  uniform vec3 plain;
  uniform vec3 key;
  uniform vec4 postBase[8];
  uniform vec4 postAxis[8];
  uniform int posts;
  /** All kept solids are posts: their borders are drawn exactly. */
  uniform bool onlyPosts;
  uniform float slack;
  uniform bool hasSkin;
  uniform vec3 up;
  /** What alone is seen: 1 a box, 2 a cylinder, 3 a ball, each of unit size in its own axes; 4 what lies within. */
  uniform int alone;
  uniform mat4 toAlone;
  varying vec3 vWorld;
  varying vec3 vNormal;
  varying float vOpen;
  varying float vRole;
  varying float vThickness;
  varying float vBeyond;
  uniform float aloneSlack;

  ${ramped}
  ${cutFace}

  bool inPost(vec3 p, float slack) {
    for (int i = 0; i < 8; i++) {
      if (i >= posts) break;
      vec3 q = p - postBase[i].xyz;
      if (postAxis[i].w < 0.0) {
        if (length(q) < postBase[i].w + slack) return true;
        continue;
      }
      float along = dot(q, postAxis[i].xyz);
      bool between = along > -slack && along < postAxis[i].w + slack;
      if (between && length(q - postAxis[i].xyz * along) < postBase[i].w + slack) return true;
    }
    return false;
  }

  bool besideAlone(vec3 world) {
    if (alone == 0) return false;
    if (alone == 4) return vBeyond > aloneSlack;
    vec3 p = (toAlone * vec4(world, 1.0)).xyz;
    if (alone == 1) return any(greaterThan(abs(p), vec3(0.5)));
    if (alone == 2) return length(p.xy) > 1.0 || p.z < 0.0 || p.z > 1.0;
    return length(p) > 1.0;
  }

  void main() {
    if (besideAlone(vWorld)) discard;
    if (isCutAway(vWorld)) discard;
    vec3 base = vRole < 0.5 ? fill : vRole < 1.5 ? skin : solid;
    float kept = smoothstep(1.2, 1.8, vRole);
    if (onlyPosts && vRole > 0.01) {
      kept = inPost(vWorld, slack) ? 1.0 : 0.0;
      base = kept > 0.5 ? solid : hasSkin && vRole > 0.5 ? skin : fill;
    }
    // How thick a kept solid is cannot be told at a point of it.
    if (colourBy == 1) base = mix(ramped(vThickness), solid, kept);
    if (!gl_FrontFacing) {
      vec3 on = cutting ? onCut(vWorld) : vWorld;
      if (colourBy == 1) base = plain;
      else if (inPost(on, 0.0)) base = solid;
      // Even light and fine strokes tell a cut face from a surface.
      vec3 p = on * (1.0 / 1.15);
      float stroke = abs(fract((p.x + p.y + p.z) * 0.7071) - 0.5);
      // Not by differences between pixels: those jump where another triangle lies behind the cut.
      float wide = 1.5 * pixelAt(on);
      float line = smoothstep(0.06, 0.1, stroke / max(wide, 1e-4) * 0.12);
      gl_FragColor = vec4(base * mix(0.89, 0.94, line), 1.0);
      #include <colorspace_fragment>
      return;
    }
    vec3 n = normalize(vNormal);
    vec3 toEye = normalize(eye - vWorld);
    // Points of large faces are far apart: a shade that is baked into them says less there.
    float baked = mix(vOpen, 1.0, 0.55 * kept);
    float open = mix(0.22, 1.0, smoothstep(0.0, 0.95, baked));
    float above = 0.5 + 0.5 * dot(n, up);
    vec3 ambient = mix(vec3(0.40, 0.41, 0.43), vec3(0.80, 0.82, 0.83), above) * open;
    float direct = max(dot(n, key), 0.0) * mix(0.35, 1.0, open);
    float side = max(dot(n, toEye), 0.0) * 0.16 * open;
    float shine = pow(max(dot(n, normalize(key + toEye)), 0.0), 36.0) * 0.10 * open;
    vec3 warm = vec3(1.0, 0.975, 0.93);
    vec3 lit = base * (ambient * 0.78 + warm * direct * 0.62 + side) + shine;
    gl_FragColor = vec4(lit, 1.0);
    #include <colorspace_fragment>
  }
`

/** Kept cylinders and balls whose cut faces are coloured exactly; other zones take the colour of what lies behind. */
export const mostPosts = 8

const rgb = (hex: string) => new Color(hex)

export function partMaterial(): ShaderMaterial {
  return new ShaderMaterial({
    vertexShader: vertex,
    fragmentShader: fragment,
    side: DoubleSide,
    uniforms: {
      ...rampUniforms(),
      ...cutUniforms(),
      colourBy: { value: 0 },
      fill: { value: rgb(materials.fill) },
      skin: { value: rgb(materials.skin) },
      solid: { value: rgb(materials.solid) },
      plain: { value: rgb(plainCut) },
      key: { value: new Vector3(0, 0, 1) },
      postBase: { value: Array.from({ length: mostPosts }, () => new Vector4()) },
      postAxis: { value: Array.from({ length: mostPosts }, () => new Vector4()) },
      posts: { value: 0 },
      onlyPosts: { value: false },
      hasSkin: { value: false },
      slack: { value: 0 },
      up: { value: new Vector3(0, 0, 1) },
      alone: { value: 0 },
      toAlone: { value: new Matrix4() },
      aloneSlack: { value: 0 },
    },
  })
}

/** Draws only what lies in a place and within `slack` of it; for `'within'` by the points' own distances. */
export function aloneIn(material: ShaderMaterial, place: Place | 'within' | null, slack: number) {
  const { alone, toAlone, aloneSlack } = material.uniforms
  if (!alone || !toAlone || !aloneSlack) return
  aloneSlack.value = slack
  if (place === 'within') return void (alone.value = 4)
  const own = new Matrix4()
  alone.value =
    place?.shape === 'box' ? 1 : place?.shape === 'cylinder' ? 2 : place?.shape === 'sphere' ? 3 : 0
  if (place?.shape === 'box') {
    const [x = 0, y = 0, z = 0] = place.rotation_deg.map((d) => (d * Math.PI) / 180)
    const turn = new Quaternion().setFromEuler(new Euler(x, y, z, 'ZYX'))
    const size = new Vector3().fromArray(place.size_mm).addScalar(2 * slack)
    own.compose(new Vector3().fromArray(place.centre_mm), turn, size)
  } else if (place?.shape === 'cylinder') {
    const axis = new Vector3().fromArray(place.axis_mm)
    const turn = new Quaternion().setFromUnitVectors(new Vector3(0, 0, 1), axis.clone().normalize())
    const from = new Vector3()
      .fromArray(place.base_mm)
      .addScaledVector(axis.clone().normalize(), -slack)
    own.compose(
      from,
      turn,
      new Vector3(place.radius_mm + slack, place.radius_mm + slack, axis.length() + 2 * slack),
    )
  } else if (place?.shape === 'sphere') {
    const radius = new Vector3().setScalar(place.radius_mm + slack)
    own.compose(new Vector3().fromArray(place.centre_mm), new Quaternion(), radius)
  }
  toAlone.value = own.invert()
}
