import { BufferAttribute, BufferGeometry, Points, Scene, type Mesh, type PerspectiveCamera, type ShaderMaterial } from 'three'
import type { Arrays } from './display.ts'
import type { DepthLight } from './depthlight.ts'
import { tint, type Shown } from './objects.ts'

type Drawn = Map<string, { object: Mesh | Points; shown: Shown }>

/** Points that are handed to the graphics card at once: all of a large cloud would take it for a second. */
const PIECE = 250_000

/**
 * When the view rests, clouds are drawn whole: a slice in each frame, beside the picture that is seen, which they take the place of when all of them are
 * drawn. Whoever touches the view meanwhile waits for one slice at most. slice: points of it.
 */
export function refiner(light: DepthLight, scene: Scene, slice: number) {
  const whole = new Map<string, Points[]>()
  const alone = new Scene()
  let frame = 0

  /** Those of which more is known than what is drawn. A preview or a map speaks of the points that are drawn: there the rest is left out. */
  const finer = (drawn: Drawn) =>
    [...drawn.values()].flatMap(({ object, shown }) => {
      const pieces = object.visible && !shown.gone && !shown.values ? whole.get(shown.id) : undefined
      return pieces ? [{ object, shown, pieces }] : []
    })
  const drop = (id: string) => {
    for (const p of whole.get(id) ?? []) p.geometry.dispose()
    whole.delete(id)
  }
  const stop = () => {
    cancelAnimationFrame(frame)
    frame = 0
  }
  return {
    stop,
    /** The whole of a cloud; null when it is not to be kept any more. */
    set(id: string, arrays: Arrays | null) {
      drop(id)
      if (arrays) whole.set(id, inPieces(arrays))
    },
    has: (id: string) => whole.has(id),
    wholes: (drawn: Drawn) => new Map(finer(drawn).map(({ object, shown, pieces }) => [object, { pieces, spacing: shown.spacing ?? 0 }])),
    /** Begins. w, h: px of the drawing. done: told how many points were drawn. */
    start(drawn: Drawn, camera: PerspectiveCamera, w: number, h: number, done: (points: number) => void): void {
      stop()
      const list = finer(drawn)
      if (!list.length) return
      // what the screen got of a cloud may have normals, of which the cloud itself has none: then all are lit alike, by their depths
      const bare = list.some(({ pieces }) => !pieces[0].geometry.getAttribute('normal'))
      const todo = list.flatMap(({ pieces, ...of }) => pieces.map((piece) => ({ piece, ...of })))
      let [k, from, count] = [0, 0, 0]

      const first = () => {
        for (const { object } of list) object.visible = false
        light.begin(0, w, h)
        light.more(scene, camera)
        for (const { object } of list) object.visible = true
      }
      const some = (most: number): number => {
        const { piece, object, shown } = todo[k]
        const n = piece.geometry.getAttribute('position').count
        const now = Math.min(most, n - from)
        const material = object.material as ShaderMaterial
        const { spacing, lit } = material.uniforms
        const before = lit.value as number
        spacing.value = shown.spacing ?? 0
        lit.value = bare ? 0 : 1
        material.uniformsNeedUpdate = true
        piece.material = material
        piece.matrix.copy(object.matrix)
        piece.geometry.setDrawRange(from, now)
        alone.clear()
        alone.add(piece)
        light.more(alone, camera)
        lit.value = before
        from += now
        if (from === n) [k, from] = [k + 1, 0]
        return now
      }
      const next = () => {
        frame = 0
        if (count === 0) first()
        for (let left = slice; left > 0 && k < todo.length;) {
          const now = some(left)
          left -= now
          count += now
        }
        if (k < todo.length) frame = requestAnimationFrame(next)
        else {
          light.end(camera, bare ? h : 0)
          done(count)
        }
      }
      frame = requestAnimationFrame(next)
    },
    dispose() {
      stop()
      for (const id of [...whole.keys()]) drop(id)
    },
  }
}

function inPieces(arrays: Arrays): Points[] {
  const n = arrays['xyz'].length / 3
  const pieces: Points[] = []
  for (let from = 0; from < n; from += PIECE) {
    const cut = (name: string) => arrays[name] && arrays[name].subarray(3 * from, 3 * Math.min(n, from + PIECE))
    const g = new BufferGeometry()
    g.setAttribute('position', new BufferAttribute(cut('xyz') as Float32Array, 3))
    if (arrays['normals']) g.setAttribute('normal', new BufferAttribute(cut('normals') as Float32Array, 3))
    if (arrays['colours']) tint(g, { colours: cut('colours') })
    const points = new Points(g)
    points.frustumCulled = false
    points.matrixAutoUpdate = false
    pieces.push(points)
  }
  return pieces
}
