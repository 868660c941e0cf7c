import { BufferAttribute, BufferGeometry, Points, Scene, type Mesh, type PerspectiveCamera, type ShaderMaterial } from 'three'
import type { Arrays } from './display.ts'
import type { DepthLight } from './depthlight.ts'
import type { Shown } from './objects.ts'

type Drawn = Map<string, { object: Mesh | Points; shown: Shown }>

/**
 * When the view rests, clouds are drawn whole: a slice in each frame, beside the picture that is seen, which they take the place of when all of them are
 * drawn. Whoever touches the view meanwhile waits for one slice at most. slice: points of it.
 */
export function refiner(light: DepthLight, scene: Scene, slice: number) {
  const whole = new Map<string, Points>()
  const alone = new Scene()
  let frame = 0

  /** Those of which more is known than what is drawn. A preview or a map speaks of the points that are drawn: there the rest is left out. */
  const finer = (drawn: Drawn) => [...drawn.values()].filter(({ shown, object }) => object.visible && whole.has(shown.id) && !shown.gone && !shown.values)

  const stop = () => {
    cancelAnimationFrame(frame)
    frame = 0
  }
  return {
    stop,
    /** The whole of a cloud; null when it is not to be kept any more. */
    set(id: string, arrays: Arrays | null) {
      whole.get(id)?.geometry.dispose()
      whole.delete(id)
      if (!arrays) return
      const g = new BufferGeometry()
      g.setAttribute('position', new BufferAttribute(arrays['xyz'] as Float32Array, 3))
      if (arrays['normals']) g.setAttribute('normal', new BufferAttribute(arrays['normals'], 3))
      const points = new Points(g)
      points.frustumCulled = false
      points.matrixAutoUpdate = false
      whole.set(id, points)
    },
    has: (id: string) => whole.has(id),
    /** Begins. w, h: px of the drawing. done: told how many points were drawn. */
    start(drawn: Drawn, camera: PerspectiveCamera, w: number, h: number, done: (points: number) => void): void {
      stop()
      const list = finer(drawn)
      if (!list.length) return
      let [k, from, count] = [0, 0, 0]
      // what the screen got of a cloud may have normals, of which the cloud itself has none: then all are lit alike, by their depths
      const bare = list.some(({ shown }) => !whole.get(shown.id)?.geometry.getAttribute('normal'))
      const first = () => {
        for (const { object } of list) object.visible = false
        light.begin(0, w, h)
        light.more(scene, camera)
        for (const { object } of list) object.visible = true
      }
      const next = () => {
        frame = 0
        if (from === 0 && k === 0) first()
        let left = slice
        while (k < list.length && left > 0) {
          const { object, shown } = list[k]
          const points = whole.get(shown.id)
          if (!points) return
          const n = points.geometry.getAttribute('position').count
          const some = Math.min(left, n - from)
          const material = object.material as ShaderMaterial
          const { spacing, lit } = material.uniforms
          spacing.value = shown.spacing ?? 0
          const before = lit.value as number
          lit.value = bare ? 0 : 1
          material.uniformsNeedUpdate = true
          points.material = material
          points.matrix.copy(object.matrix)
          points.geometry.setDrawRange(from, some)
          alone.clear()
          alone.add(points)
          light.more(alone, camera)
          lit.value = before
          count += some
          left -= some
          from += some
          if (from < n) break
          from = 0
          k++
        }
        if (k < list.length) frame = requestAnimationFrame(next)
        else {
          light.end(camera, bare ? h : 0)
          done(count)
        }
      }
      frame = requestAnimationFrame(next)
    },
    dispose() {
      stop()
      for (const p of whole.values()) p.geometry.dispose()
      whole.clear()
    },
  }
}
