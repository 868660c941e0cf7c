import {
  DepthTexture,
  GLSL3,
  Mesh,
  NearestFilter,
  NoBlending,
  OrthographicCamera,
  PlaneGeometry,
  Scene,
  ShaderMaterial,
  UnsignedIntType,
  Vector2,
  WebGLRenderTarget,
  type PerspectiveCamera,
  type WebGLRenderer,
} from 'three'

/** How strongly a step in depth darkens, and the largest step that counts, both in doublings of the distance: a rim is dark, but shows its colour. */
const STRENGTH = 130
const LARGEST = 0.022
/** px to the neighbours that are looked at; and to those that say how the surface lies */
const RADIUS = 1.4
const NEAR = 3
const FAR = 6

/**
 * Lights clouds of points by their depth (eye-dome lighting; Boucheny 2009): a place is the darker, the more what is beside it on the screen lies in front of it. Points have
 * no surface to be lit; their steps and rims are seen by this. Meshes, told by their alpha, keep their colours: those of a deviation must be those of its scale.
 */
export function depthLight(renderer: WebGLRenderer, samples: number) {
  const target = new WebGLRenderTarget(1, 1, {
    samples,
    minFilter: NearestFilter,
    magFilter: NearestFilter,
    depthTexture: new DepthTexture(1, 1, UnsignedIntType),
  })
  const material = new ShaderMaterial({
    glslVersion: GLSL3,
    depthTest: false,
    depthWrite: false,
    blending: NoBlending,
    uniforms: {
      picture: { value: target.texture },
      depth: { value: target.depthTexture },
      range: { value: new Vector2(1, 2) },
      /** px for one mm at a distance of 1 mm; 0: the points are lit by their normals already */
      pixels: { value: 0 },
    },
    vertexShader: 'void main() { gl_Position = vec4(position.xy, 0.0, 1.0); }',
    fragmentShader: `
precision highp float;
uniform sampler2D picture;
uniform sampler2D depth;
uniform vec2 range;
uniform float pixels;
out vec4 result;
// logarithm of the distance: a step counts by its share of it
float away(ivec2 at) {
  float d = texelFetch(depth, at, 0).r;
  return d >= 1.0 ? -1.0 : log2(range.x * range.y / (range.y - d * (range.y - range.x)));
}
void main() {
  ivec2 at = ivec2(gl_FragCoord.xy);
  vec4 c = texelFetch(picture, at, 0);
  if (c.a == 0.0) discard;
  float light = 1.0;
  float own = away(at);
  if (c.a > 0.998 && own > 0.0) {
    float sum = 0.0;
    for (int k = 0; k < 8; k++) {
      float angle = 0.785398 * float(k);
      float beside = away(at + ivec2(round(${RADIUS.toFixed(1)} * vec2(cos(angle), sin(angle)))));
      if (beside > 0.0) sum += clamp(own - beside, 0.0, ${LARGEST});
    }
    light = exp(-${STRENGTH.toFixed(1)} * sum / 8.0);
    // a plane through the depths around it, without those that lie on something else, says which way the surface looks
    if (pixels > 0.0) {
      vec2 slope = vec2(0.0), weight = vec2(1e-6);
      for (int k = 0; k < 16; k++) {
        float angle = 0.392699 * float(k);
        vec2 step = round((k % 2 == 0 ? ${NEAR.toFixed(1)} : ${FAR.toFixed(1)}) * vec2(cos(angle), sin(angle)));
        float beside = away(at + ivec2(step));
        if (beside < 0.0 || abs(beside - own) > ${LARGEST}) continue;
        slope += step * (exp2(beside) - exp2(own));
        weight += step * step;
      }
      vec2 tilt = slope / weight * pixels / exp2(own);
      light *= (0.62 + 0.62 * inversesqrt(1.0 + dot(tilt, tilt))) / 1.1;
    }
  }
  // smoothed rims have their alpha in their colour already
  result = vec4(c.rgb * light, c.a > 0.99 ? 1.0 : c.a);
}`,
  })
  const sheet = new Scene()
  const plane = new Mesh(new PlaneGeometry(2, 2), material)
  plane.frustumCulled = false
  sheet.add(plane)
  const flat = new OrthographicCamera()
  return {
    resize(w: number, h: number) {
      target.setSize(w, h)
    },
    /** Draws one view within x, w (px of the drawing, from the left). */
    draw(scene: Scene, camera: PerspectiveCamera, x: number, w: number, h: number) {
      this.begin(x, w, h)
      this.more(scene, camera)
      this.end(camera)
    },
    /** The same in parts: what is drawn is seen at its end. */
    begin(x: number, w: number, h: number) {
      target.viewport.set(x, 0, w, h)
      target.scissor.set(x, 0, w, h)
      target.scissorTest = true
      renderer.setRenderTarget(target)
      renderer.clear()
      renderer.setRenderTarget(null)
    },
    more(scene: Scene, camera: PerspectiveCamera) {
      renderer.setRenderTarget(target)
      renderer.render(scene, camera)
      renderer.setRenderTarget(null)
    },
    /** bare: height of the drawing, px, where points have no normals to be lit by: they are lit by the slope of what is drawn. */
    end(camera: PerspectiveCamera, bare = 0) {
      material.uniforms['pixels'].value = bare && bare / (2 * Math.tan((camera.fov * Math.PI) / 360))
      material.uniforms['range'].value.set(camera.near, camera.far)
      renderer.render(sheet, flat)
    },
    dispose() {
      target.depthTexture?.dispose()
      target.dispose()
      material.dispose()
      plane.geometry.dispose()
    },
  }
}
export type DepthLight = ReturnType<typeof depthLight>
