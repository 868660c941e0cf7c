import { DoubleSide, GLSL3, ShaderMaterial, Vector3, Vector4 } from 'three'
import { BEYOND_EXTRA, BEYOND_MISSING, EXTRA, LINEN, MISSING, type Rgb } from '@oak-gauge/contract'

const vec = (c: Rgb) => `vec3(${c.map((v) => (v / 255).toFixed(4)).join(', ')})`
const steps = (list: readonly Rgb[]) => `vec3[4](${list.map(vec).join(', ')})`

/** The same steps as deviationColour in the contract, for the graphics card; hatched beyond the scale. */
const DEVIATION = `
uniform float limit;
uniform float scale;
vec3 deviationColour(float v, vec2 screen) {
  float a = abs(v);
  if (a <= limit) return ${vec(LINEN)};
  float stripe = mod(screen.x + screen.y, 8.0);
  if (a > scale) return stripe < 2.0 ? vec3(0.97, 0.95, 0.9) : v > 0.0 ? ${vec(BEYOND_EXTRA)} : ${vec(BEYOND_MISSING)};
  int step = int(min(3.0, floor(4.0 * (a - limit) / max(1e-9, scale - limit))));
  vec3 extra[4] = ${steps(EXTRA)};
  vec3 missing[4] = ${steps(MISSING)};
  return v > 0.0 ? extra[step] : missing[step];
}`

const SHARED = () => ({
  colour: { value: new Vector3(0.55, 0.45, 0.33) },
  limit: { value: 0.1 },
  scale: { value: 1 },
  mapped: { value: 0 },
  /** in the colours that were recorded, not in its own */
  tinted: { value: 0 },
  /** what lies below it goes; x y z normal, w offset, in world coordinates */
  plane: { value: new Vector4(0, 0, 1, -1e30) },
  object: { value: 0 },
})
export type Uniforms = ReturnType<typeof SHARED>
const SPLAT = (size: number) => ({
  /** least size, px */
  size: { value: size },
  /** between points that are drawn, mm; 0 where it is not known */
  spacing: { value: 0 },
  /** px of the drawing for one mm at a distance of 1 mm */
  pixels: { value: 0 },
  /** there are normals */
  lit: { value: 0 },
})

const POINT_VERTEX = `
in float value;
in float gone;
in vec3 tint;
uniform vec4 plane;
uniform float size;
uniform float spacing;
uniform float pixels;
uniform float lit;
uniform float mapped;
out float vValue;
out float vGoing;
out float vLight;
out vec3 vTint;
out vec3 vWorld;
void main() {
  vec4 world = modelMatrix * vec4(position, 1.0);
  vec4 eye = viewMatrix * world;
  gl_Position = projectionMatrix * eye;
  vWorld = world.xyz;
  vTint = tint;
  vGoing = (dot(world.xyz, plane.xyz) < plane.w || gone > 0.5) ? 1.0 : 0.0;
  vValue = value;
  vec3 n = normalize(mat3(viewMatrix) * mat3(modelMatrix) * normal);
  float facing = abs(dot(n, normalize(-eye.xyz)));
  vLight = lit > 0.5 ? 0.62 + 0.62 * facing : 1.1;
  // as large as the gap to its neighbours: what lies behind does not show through
  float least = vGoing > 0.5 ? size + 2.0 : mapped > 0.5 ? size + 1.0 : size;
  gl_PointSize = clamp(1.5 * spacing * pixels / max(1e-6, -eye.z), least, 6.0 * size);
}`

export function pointMaterial(size: number): ShaderMaterial {
  return new ShaderMaterial({
    glslVersion: GLSL3,
    uniforms: { ...SHARED(), ...SPLAT(size) },
    vertexShader: POINT_VERTEX,
    fragmentShader: `
precision highp float;
uniform vec3 colour;
uniform float mapped;
uniform float tinted;
in float vValue;
in float vGoing;
in float vLight;
in vec3 vTint;
out vec4 result;
${DEVIATION}
void main() {
  vec2 round = gl_PointCoord - 0.5;
  if (dot(round, round) > 0.27) discard;
  // what goes is hatched: shape before colour
  if (vGoing > 0.5) {
    result = mod(gl_FragCoord.x + gl_FragCoord.y, 7.0) < 2.0 ? vec4(0.97, 0.95, 0.9, 1.0) : vec4(0.65, 0.24, 0.18, 1.0);
    return;
  }
  result = vec4((mapped > 0.5 ? deviationColour(vValue, gl_FragCoord.xy) * 0.92 : tinted > 0.5 ? vTint : colour) * vLight, 1.0);
}`,
  })
}

const MESH_VERTEX = `
in float value;
in float filled;
in float face;
in vec3 tint;
out float vValue;
out float vFilled;
flat out float vFace;
out vec3 vNormal2;
out vec3 vEye;
out vec3 vTint;
out vec3 vWorld;
void main() {
  vec4 world = modelMatrix * vec4(position, 1.0);
  vec4 eye = viewMatrix * world;
  gl_Position = projectionMatrix * eye;
  vEye = eye.xyz;
  vWorld = world.xyz;
  vValue = value;
  vFilled = filled;
  vFace = face;
  vTint = tint;
  vNormal2 = mat3(viewMatrix) * mat3(modelMatrix) * normal;
}`

/** flat: shade by the triangles' own normals (CAD faces, whose edges are sharp). */
export function meshMaterial(flat: boolean): ShaderMaterial {
  return new ShaderMaterial({
    glslVersion: GLSL3,
    side: DoubleSide,
    polygonOffset: true,
    polygonOffsetFactor: 1,
    polygonOffsetUnits: 1,
    uniforms: { ...SHARED(), chosen: { value: new Float32Array(64) }, chosenCount: { value: 0 }, ghost: { value: 0 } },
    vertexShader: MESH_VERTEX,
    fragmentShader: `
precision highp float;
uniform vec3 colour;
uniform float mapped;
uniform float tinted;
uniform float chosen[64];
uniform int chosenCount;
uniform float ghost;
in float vValue;
in float vFilled;
flat in float vFace;
in vec3 vNormal2;
in vec3 vEye;
in vec3 vTint;
out vec4 result;
${DEVIATION}
void main() {
  if (ghost > 0.5 && mod(gl_FragCoord.x + gl_FragCoord.y * 3.0, 4.0) > 1.0) discard;
  vec3 n = ${flat ? 'normalize(cross(dFdx(vEye), dFdy(vEye)))' : 'normalize(vNormal2)'};
  float facing = abs(dot(n, normalize(-vEye)));
  float upper = 0.5 + 0.5 * abs(n.y);
  float light = 0.40 + 0.46 * facing + 0.16 * upper;
  vec3 base = tinted > 0.5 ? vTint : colour;
  if (mapped > 0.5) base = vValue == vValue && abs(vValue) < 1e20 ? deviationColour(vValue, gl_FragCoord.xy) : vec3(0.72, 0.70, 0.67);
  float stripe = mod(gl_FragCoord.x - gl_FragCoord.y, 9.0);
  if (vFilled > 0.99 && stripe < 3.0) base = mix(base, vec3(0.30, 0.27, 0.24), 0.55);
  for (int i = 0; i < 64; i++) {
    if (i >= chosenCount) break;
    if (abs(chosen[i] - vFace) < 0.5) {
      vec2 d = mod(gl_FragCoord.xy, 6.0) - 3.0;
      base = dot(d, d) < 2.2 ? vec3(0.97, 0.95, 0.9) : vec3(0.26, 0.42, 0.54);
    }
  }
  // the inside of an open mesh: plum hatch
  if (!gl_FrontFacing) base = stripe < 4.5 ? vec3(0.42, 0.25, 0.36) : vec3(0.60, 0.44, 0.53);
  // not lit by depth once more (depthlight.ts)
  result = vec4(base * light, 254.0 / 255.0);
}`,
  })
}

/** Where the surface is under each pixel: x y z in the world, and which object and face. */
export function pickMaterial(points: boolean, size: number): ShaderMaterial {
  return new ShaderMaterial({
    glslVersion: GLSL3,
    side: DoubleSide,
    uniforms: { ...SHARED(), ...SPLAT(size) },
    vertexShader: points ? POINT_VERTEX : MESH_VERTEX,
    fragmentShader: `
precision highp float;
uniform float object;
in vec3 vWorld;
${points ? '' : 'flat in float vFace;'}
out vec4 result;
void main() { result = vec4(vWorld, object * 65536.0 + ${points ? '0.0' : 'vFace + 1.0'}); }`,
  })
}
