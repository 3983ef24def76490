import {
  ClampToEdgeWrapping,
  Color,
  Data3DTexture,
  DataUtils,
  DoubleSide,
  HalfFloatType,
  LinearFilter,
  RedFormat,
  ShaderMaterial,
  Vector3,
  Vector4,
} from 'three'
import { scale } from '../../theme/tokens'

/** What a grading gives at the samples of a box of the part, x first. */
export interface GradedField {
  /** Place of the first sample, and distance of neighbouring ones. mm. */
  origin: Vector3
  step: number
  size: [number, number, number]
  values: Float32Array
  /** Least and greatest value. */
  range: [number, number]
}

/** Reads what the server sends of a grading; `null` where it gives nothing. */
export function fieldOf(numbers: Float32Array): GradedField | null {
  const [x = 0, y = 0, z = 0, step = 1, nx = 0, ny = 0, nz = 0] = numbers
  if (numbers.length < 7) return null
  const values = numbers.subarray(7)
  let [low, high] = [Infinity, -Infinity]
  for (const v of values) {
    if (v < low) low = v
    if (v > high) high = v
  }
  return { origin: new Vector3(x, y, z), step, size: [nx, ny, nz], values, range: [low, high] }
}

/** The value at a place, as the picture shows it. */
export function valueIn({ origin, step, size, values }: GradedField, place: Vector3): number {
  const [nx, ny] = size
  const at = place.clone().sub(origin).divideScalar(step).toArray()
  const low = at.map((v, i) =>
    Math.min(Math.max(Math.floor(v), 0), Math.max((size[i] ?? 1) - 2, 0)),
  )
  const t = at.map((v, i) => Math.min(Math.max(v - (low[i] ?? 0), 0), 1))
  let sum = 0
  for (let corner = 0; corner < 8; corner++) {
    const bits = [corner & 1, (corner >> 1) & 1, corner >> 2]
    const weight = bits.reduce((w, b, i) => w * (b ? (t[i] ?? 0) : 1 - (t[i] ?? 0)), 1)
    const [i = 0, j = 0, k = 0] = low.map((v, n) => v + (bits[n] ?? 0))
    sum += weight * (values[i + nx * (j + ny * k)] ?? 0)
  }
  return sum
}

/** Distance of lines of equal value: a round number, of which six or more lie in the range. */
export function lineStep([low, high]: [number, number]): number {
  const about = Math.max(high - low, 1e-9) / 6
  const ten = 10 ** Math.floor(Math.log10(about))
  return ([5, 2, 1].find((n) => n * ten <= about) ?? 1) * ten
}

const vertex = /* glsl */ `
  varying vec3 vWorld;
  varying vec3 vNormal;
  void main() {
    vec4 world = modelMatrix * vec4(position, 1.0);
    vWorld = world.xyz;
    vNormal = mat3(modelMatrix) * normal;
    gl_Position = projectionMatrix * viewMatrix * world;
  }
`

const fragment = /* glsl */ `
  precision highp sampler3D;
  uniform sampler3D field;
  uniform vec3 origin;
  uniform float step_;
  uniform vec3 size;
  uniform vec2 range;
  uniform float lines;
  uniform vec3 ramp[5];
  uniform vec4 cut;
  uniform bool cutting;
  uniform vec3 eye;
  /** Width of a pixel at a distance of one. */
  uniform float pixel;
  uniform vec3 key;
  varying vec3 vWorld;
  varying vec3 vNormal;

  vec3 ramped(float v) {
    float t = clamp((v - range.x) / max(range.y - range.x, 1e-6), 0.0, 1.0) * 4.0;
    vec3 c = ramp[0];
    for (int i = 0; i < 4; i++) c = mix(c, ramp[i + 1], clamp(t - float(i), 0.0, 1.0));
    return c;
  }

  float valueAt(vec3 p) {
    return texture(field, ((p - origin) / step_ + 0.5) / size).r;
  }

  void main() {
    if (cutting && dot(vWorld, cut.xyz) > cut.w) discard;
    vec3 on = vWorld;
    // The mesh is closed: whatever looks at a back face looks at the cut in front of it.
    bool cap = cutting && !gl_FrontFacing;
    if (cap) {
      vec3 ray = vWorld - eye;
      on = eye + ray * ((cut.w - dot(eye, cut.xyz)) / dot(ray, cut.xyz));
    }
    float v = valueAt(on);
    float s = v / lines;
    float wide = fwidth(s);
    if (cap) {
      // Not by differences between pixels: those jump where another triangle lies behind the cut.
      float h = 0.5 * step_;
      vec3 slope = vec3(valueAt(on + vec3(h, 0, 0)), valueAt(on + vec3(0, h, 0)), valueAt(on + vec3(0, 0, h))) - v;
      slope -= cut.xyz * dot(slope, cut.xyz);
      wide = length(slope) / h / lines * pixel * distance(on, eye);
    }
    float line = 1.0 - smoothstep(0.6, 1.4, abs(fract(s - 0.5) - 0.5) / max(wide, 1e-6));
    vec3 n = normalize(vNormal) * (gl_FrontFacing ? 1.0 : -1.0);
    float light = cap ? 0.97 : 0.66 + 0.26 * max(dot(n, key), 0.0) + 0.08 * n.z;
    vec3 base = mix(ramped(v), vec3(0.06, 0.09, 0.08), 0.34 * line);
    gl_FragColor = vec4(base * light, 1.0);
    #include <colorspace_fragment>
  }
`

/** Paints a part by what a grading gives, on its surface and on the face of a cut. */
export class FieldPaint {
  field: GradedField | null = null
  readonly material = new ShaderMaterial({
    vertexShader: vertex,
    fragmentShader: fragment,
    side: DoubleSide,
    uniforms: {
      field: { value: null },
      origin: { value: new Vector3() },
      step_: { value: 1 },
      size: { value: new Vector3(1, 1, 1) },
      range: { value: [0, 1] },
      lines: { value: 1 },
      ramp: { value: scale.map((c) => new Color(c)) },
      cut: { value: new Vector4(0, 1, 0, 0) },
      cutting: { value: false },
      eye: { value: new Vector3() },
      pixel: { value: 0 },
      key: { value: new Vector3(0, 0, 1) },
    },
  })

  set(field: GradedField | null) {
    this.field = field
    const { uniforms } = this.material
    uniforms.field?.value?.dispose()
    if (!field || !uniforms.field) return
    const halves = new Uint16Array(field.values.length)
    field.values.forEach((v, i) => (halves[i] = DataUtils.toHalfFloat(v)))
    const texture = new Data3DTexture(halves, ...field.size)
    texture.format = RedFormat
    texture.type = HalfFloatType
    texture.minFilter = texture.magFilter = LinearFilter
    texture.wrapS = texture.wrapT = texture.wrapR = ClampToEdgeWrapping
    texture.unpackAlignment = 1
    texture.needsUpdate = true
    uniforms.field.value = texture
    uniforms.origin?.value.copy(field.origin)
    uniforms.size?.value.fromArray(field.size)
    const set = (name: string, value: unknown) => {
      const uniform = uniforms[name]
      if (uniform) uniform.value = value
    }
    set('step_', field.step)
    set('range', field.range)
    set('lines', lineStep(field.range))
  }

  dispose() {
    this.material.uniforms.field?.value?.dispose()
    this.material.dispose()
  }
}
