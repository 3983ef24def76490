import {
  ClampToEdgeWrapping,
  Data3DTexture,
  DataUtils,
  DoubleSide,
  HalfFloatType,
  LinearFilter,
  RedFormat,
  ShaderMaterial,
  Vector3,
} from 'three'
import { cutFace, cutUniforms, ramped, rampUniforms } from './glsl'

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
  uniform float spacing;
  uniform vec3 size;
  uniform float lines;
  uniform vec3 key;
  varying vec3 vWorld;
  varying vec3 vNormal;
  ${ramped}
  ${cutFace}

  float valueAt(vec3 p) {
    return texture(field, ((p - origin) / spacing + 0.5) / size).r;
  }

  void main() {
    if (isCutAway(vWorld)) discard;
    bool cap = cutting && !gl_FrontFacing;
    vec3 on = cap ? onCut(vWorld) : vWorld;
    float v = valueAt(on);
    float s = v / lines;
    float wide = fwidth(s);
    if (cap) {
      // Not by differences between pixels: those jump where another triangle lies behind the cut.
      float h = 0.5 * spacing;
      vec3 slope = vec3(valueAt(on + vec3(h, 0, 0)), valueAt(on + vec3(0, h, 0)), valueAt(on + vec3(0, 0, h))) - v;
      slope -= cut.xyz * dot(slope, cut.xyz);
      wide = length(slope) / h / lines * pixelAt(on);
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
      spacing: { value: 1 },
      size: { value: new Vector3(1, 1, 1) },
      lines: { value: 1 },
      ...rampUniforms(),
      ...cutUniforms(),
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
    set('spacing', field.step)
    set('range', field.range)
    set('lines', lineStep(field.range))
  }

  dispose() {
    this.material.uniforms.field?.value?.dispose()
    this.material.dispose()
  }
}
