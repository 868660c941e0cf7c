import {
  FloatType,
  NearestFilter,
  Scene,
  WebGLRenderTarget,
  type Mesh,
  type PerspectiveCamera,
  type Points,
  type ShaderMaterial,
  type WebGLRenderer,
} from 'three'

export interface Hit {
  at: [number, number, number]
  slot: string
  face: number | null
}

/** px around the pointer */
const REACH = 12

/**
 * What lies under the pointer: a few pixels drawn with coordinates for colours. Exact on meshes and points alike, and needs no
 * search structure in the browser. Of points the one nearest to the pointer counts.
 */
export function picker(renderer: WebGLRenderer, _scene: Scene, materials: { points: ShaderMaterial; mesh: ShaderMaterial }) {
  const side = 2 * REACH + 1
  const target = new WebGLRenderTarget(side, side, { type: FloatType, minFilter: NearestFilter, magFilter: NearestFilter })
  const read = new Float32Array(4 * side * side)
  const alone = new Scene()
  const pick = (camera: PerspectiveCamera, objects: (Mesh | Points)[], x: number, y: number, w: number, h: number): Hit | null => {
    camera.setViewOffset(w, h, x - REACH, y - REACH, side, side)
    renderer.setRenderTarget(target)
    renderer.setScissorTest(false)
    renderer.setClearAlpha(0)
    renderer.clear()
    objects.forEach((o, i) => {
      if (!o.visible) return
      const own = o.material as ShaderMaterial
      const parent = o.parent
      const m = (o as Points).isPoints ? materials.points : materials.mesh
      m.uniforms['object'].value = i + 1
      m.uniforms['plane'].value.copy(own.uniforms['plane'].value)
      for (const name of ['spacing', 'pixels']) if (own.uniforms[name]) m.uniforms[name].value = own.uniforms[name].value as number
      m.uniformsNeedUpdate = true
      o.material = m
      alone.add(o)
      renderer.render(alone, camera)
      alone.remove(o)
      parent?.add(o)
      o.material = own
    })
    renderer.readRenderTargetPixels(target, 0, 0, side, side, read)
    renderer.setRenderTarget(null)
    camera.clearViewOffset()
    let best = -1
    let least = Infinity
    for (let r = 0; r < side; r++)
      for (let c = 0; c < side; c++) {
        const i = 4 * (r * side + c)
        if (read[i + 3] < 1) continue
        const d = (r - REACH) ** 2 + (c - REACH) ** 2
        if (d < least) {
          least = d
          best = i
        }
      }
    if (best < 0) return null
    const code = read[best + 3]
    const object = objects[Math.floor(code / 65536) - 1]
    const face = Math.round(code % 65536) - 1
    if (!object) return null
    return {
      at: [read[best], read[best + 1], read[best + 2]],
      slot: String(object.userData['slot']),
      face: face >= 0 && !(object as Points).isPoints ? face : null,
    }
  }
  return {
    pick,
    dispose() {
      target.dispose()
      materials.points.dispose()
      materials.mesh.dispose()
    },
  }
}
