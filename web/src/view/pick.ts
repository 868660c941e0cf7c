import {
  FloatType,
  Matrix4,
  NearestFilter,
  Scene,
  Vector3,
  WebGLRenderTarget,
  type Mesh,
  type PerspectiveCamera,
  type Points,
  type ShaderMaterial,
  type WebGLRenderer,
} from 'three'
import { drawClouds, nearestIn, type Cloud, type Window } from './pickwhole.ts'

export interface Hit {
  at: [number, number, number]
  slot: string
  face: number | null
}

/** px around the pointer */
const REACH = 12

/** All of a cloud, in the pieces of the drawing. */
export type Wholes = ReadonlyMap<Mesh | Points, { pieces: readonly Points[]; spacing: number }>

const nextTask = () => new Promise<void>((resolve) => setTimeout(resolve))

/**
 * What lies under the pointer: a few pixels drawn with coordinates for colours. Exact on meshes and points alike, and needs no
 * search structure in the browser. Of points the one nearest to the pointer counts. Of clouds that are at hand whole, all points are looked at, by the
 * processor: the graphics card would need as long for a click as for the whole picture.
 */
export function picker(renderer: WebGLRenderer, materials: { points: ShaderMaterial; mesh: ShaderMaterial }, size: number) {
  const side = 2 * REACH + 1
  const target = new WebGLRenderTarget(side, side, { type: FloatType, minFilter: NearestFilter, magFilter: NearestFilter })
  const read = new Float32Array(4 * side * side)
  const alone = new Scene()
  const eye = new Vector3()

  /** What the graphics card draws. */
  const drawn = (camera: PerspectiveCamera, objects: (Mesh | Points)[], x: number, y: number, w: number, h: number, wholes: Wholes): Window => {
    camera.setViewOffset(w, h, x - REACH, y - REACH, side, side)
    renderer.setRenderTarget(target)
    renderer.setScissorTest(false)
    renderer.setClearAlpha(0)
    renderer.clear()
    objects.forEach((o, i) => {
      if (!o.visible || wholes.has(o)) return
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
    // from below upwards to from above downwards
    const hit = new Float32Array(read.length)
    const depth = new Float64Array(side * side).fill(Infinity)
    for (let k = 0; k < side * side; k++) {
      const from = 4 * ((side - 1 - Math.floor(k / side)) * side + (k % side))
      hit.set(read.subarray(from, from + 4), 4 * k)
      if (read[from + 3] >= 1) depth[k] = -eye.set(read[from], read[from + 1], read[from + 2]).applyMatrix4(camera.matrixWorldInverse).z
    }
    return { reach: REACH, depth, hit }
  }

  const hitOf = (hit: Float32Array, k: number, objects: (Mesh | Points)[]): Hit | null => {
    const code = hit[4 * k + 3]
    const object = objects[Math.floor(code / 65536) - 1]
    const face = Math.round(code % 65536) - 1
    if (!object) return null
    return {
      at: [hit[4 * k], hit[4 * k + 1], hit[4 * k + 2]],
      slot: String(object.userData['slot']),
      face: face >= 0 && !(object as Points).isPoints ? face : null,
    }
  }

  const pick = async (
    camera: PerspectiveCamera,
    objects: (Mesh | Points)[],
    x: number,
    y: number,
    w: number,
    h: number,
    wholes: Wholes,
  ): Promise<Hit | null> => {
    const window = drawn(camera, objects, x, y, w, h, wholes)
    // as they stand now: the view may be turned meanwhile
    const view = camera.matrixWorldInverse.clone()
    const clouds: Cloud[] = objects.flatMap((o, i) => {
      const whole = o.visible && wholes.get(o)
      if (!whole) return []
      const toEye = new Matrix4().multiplyMatrices(view, o.matrixWorld).elements
      const pieces = whole.pieces.map((p) => p.geometry.getAttribute('position').array as Float32Array)
      return [{ pieces, toEye, toJob: o.matrixWorld.clone().elements, spacing: whole.spacing, object: (i + 1) * 65536 }]
    })
    const pixels = h / (2 * Math.tan((camera.fov * Math.PI) / 360))
    await drawClouds(window, clouds, { x, y, w, h, pixels, near: camera.near, size }, nextTask)
    const k = nearestIn(
      window,
      (object) => {
        const o = objects[Math.floor(object / 65536) - 1]
        return (o as Points).isPoints ? 3 * (wholes.get(o)?.spacing ?? ((o.material as ShaderMaterial).uniforms['spacing'].value as number)) : 0
      },
      (ax, ay, az) => {
        eye.set(ax, ay, az).applyMatrix4(view)
        return (w / 2 - (eye.x * pixels) / eye.z - x) ** 2 + (h / 2 + (eye.y * pixels) / eye.z - y) ** 2
      },
    )
    return k < 0 ? null : hitOf(window.hit, k, objects)
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
