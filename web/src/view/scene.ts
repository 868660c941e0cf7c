import { Box3, Mesh, PerspectiveCamera, Points, Scene, Vector2, Vector3, WebGLRenderer, type ShaderMaterial } from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import { depthLight } from './depthlight.ts'
import { pickMaterial } from './materials.ts'
import type { Arrays } from './display.ts'
import { boxWithoutStrays, makeObject, place, type Shown } from './objects.ts'
import { picker } from './pick.ts'
import { refiner } from './refine.ts'
import { drawsInSoftware } from './software.ts'
import { bearingsOf, comeNearer, frameOn, isOther, pivotOn, projectionOf, rayThrough, standardDirection, turnBy, type Viewpoint } from './viewpoint.ts'

export interface Look {
  limit: number
  scale: number
  plane: { normal: number[]; offset: number; slots: Set<string> } | null
  chosen: number[]
}

export type Half = 'whole' | 'left' | 'right'

/** ms without a change until everything is drawn */
const REST = 160
/** more ms until clouds are drawn whole: without a graphics card that takes seconds, which are better spent on what is computed meanwhile */
const FINER = { hardware: 0, software: 1500 }
/** points that are drawn within a frame, about: with a graphics card and without */
const SLICE = { hardware: 1_000_000, software: 8000 }

/** The stage: draws on demand only, so that a resting view costs nothing. */
export function createStage(canvas: HTMLCanvasElement) {
  const software = drawsInSoftware()
  const renderer = new WebGLRenderer({ canvas, antialias: !software, alpha: true, powerPreference: 'high-performance' })
  renderer.setPixelRatio(software ? 1 : Math.min(2, window.devicePixelRatio))
  renderer.setClearAlpha(0)
  renderer.autoClear = false
  const scene = new Scene()
  const objects = new Map<string, { object: Mesh | Points; shown: Shown }>()
  const pointSize = software ? 2 : 2 * renderer.getPixelRatio()
  const picking = picker(renderer, { points: pickMaterial(true, pointSize + 1), mesh: pickMaterial(false, 1) }, pointSize + 1)
  const makeView = () => {
    const camera = new PerspectiveCamera(28, 1, 0.5, 20_000)
    camera.up.set(0, 0, 1)
    camera.position.set(180, -320, 240)
    const controls = new OrbitControls(camera, canvas)
    controls.zoomToCursor = true
    controls.addEventListener('change', () => draw())
    controls.addEventListener('start', () => {
      turned = true
      held = true
    })
    controls.addEventListener('end', () => {
      held = false
      draw()
    })
    return { camera, controls }
  }
  const views = { left: makeView(), right: makeView() }
  views.right.controls.enabled = false
  let sides: { left: Set<string>; right: Set<string> } | null = null
  const size = new Vector2(1, 1)
  const box = new Box3()
  const listeners = new Set<() => void>()
  let queued = 0
  let pictures = 0
  let complete = false
  let framed = false
  /** the person has moved the view since it was framed */
  let turned = false
  /** a button is down: the view does not rest, however slow the hand */
  let held = false
  /** it was framed before everything had come */
  let onPart = false
  /** what it was framed on, and of which places on the tray */
  const framedBox = new Box3()
  let framedSlots = ''
  const slots = () => [...new Set([...objects.values()].map((o) => o.shown.slot))].sort().join(' ')

  const light = depthLight(renderer, software ? 0 : 4)
  const fine = refiner(light, scene, software ? SLICE.software : SLICE.hardware)
  /** points that are drawn while the view moves, and when it rests */
  let budget = { moving: Infinity, resting: Infinity }
  let resting: ReturnType<typeof setTimeout> | undefined
  let finer: ReturnType<typeof setTimeout> | undefined
  const someOf = (rest: boolean) => {
    const most = rest ? budget.resting : budget.moving
    let points = 0
    for (const { shown } of objects.values()) if (shown.kind === 'points') points += shown.arrays['xyz'].length / 3
    const share = Math.min(1, most / Math.max(1, points))
    const pixels = (size.y * renderer.getPixelRatio()) / (2 * Math.tan((views.left.camera.fov * Math.PI) / 360))
    for (const { object, shown } of objects.values()) {
      if (shown.kind !== 'points') continue
      const drawn = Math.ceil((shown.arrays['xyz'].length / 3) * share)
      object.geometry.setDrawRange(0, drawn)
      const u = (object.material as ShaderMaterial).uniforms
      // points on a surface: half as many are the square root of two as far apart. Without a graphics card every pixel counts while the view moves
      u['spacing'].value = (shown.spacing ?? 0) * Math.sqrt(shown.count / Math.max(1, drawn)) * (rest || !software ? 1 : 0.7)
      u['pixels'].value = pixels
    }
    return points
  }

  const render = (rest = false) => {
    queued = 0
    const points = someOf(rest)
    const ratio = renderer.getPixelRatio()
    renderer.setScissorTest(true)
    renderer.setScissor(0, 0, size.x, size.y)
    renderer.clear()
    for (const half of sides ? (['left', 'right'] as const) : (['left'] as const)) {
      const w = sides ? size.x / 2 : size.x
      const x = half === 'right' ? w : 0
      renderer.setViewport(x, 0, w, size.y)
      renderer.setScissor(x, 0, w, size.y)
      show(half)
      // without a graphics card the light costs more than the points: it comes when the view rests
      if (points && (rest || !software)) light.draw(scene, views[half].camera, x * ratio, w * ratio, size.y * ratio)
      else renderer.render(scene, views[half].camera)
    }
    for (const l of listeners) l()
    // for whoever waits for the picture, or counts them
    canvas.dataset['pictures'] = String(++pictures)
    canvas.dataset['points'] = String(points)
    const whole = rest || points === 0
    if (!whole) {
      clearTimeout(resting)
      if (!held) resting = setTimeout(() => !queued && !held && render(true), REST)
    }
    canvas.dataset['settled'] = complete && !queued && whole ? '1' : '0'
    if (rest) refine()
  }
  /** Nothing happens any more: the rest of the points. Of two halves it would be two pictures: there it is left. */
  const refine = () => {
    if (sides || !complete) return
    const ratio = renderer.getPixelRatio()
    const begin = () => fine.start(objects, views.left.camera, size.x * ratio, size.y * ratio, (points) => (canvas.dataset['refined'] = String(points)))
    clearTimeout(finer)
    finer = setTimeout(begin, software ? FINER.software : FINER.hardware)
  }
  const draw = () => {
    clearTimeout(finer)
    fine.stop()
    delete canvas.dataset['refined']
    canvas.dataset['settled'] = '0'
    clearTimeout(resting)
    if (!queued) queued = requestAnimationFrame(() => render())
  }
  const show = (half: 'left' | 'right') => {
    for (const { object, shown } of objects.values()) object.visible = !sides || sides[half].has(shown.slot)
  }
  const halfAt = (x: number): 'left' | 'right' => (sides && x > size.x / 2 ? 'right' : 'left')
  // the half under the pointer is the one that turns; heard before the controls hear it
  const choose = (e: PointerEvent | WheelEvent) => {
    const half = halfAt(e.clientX - canvas.getBoundingClientRect().left)
    views.left.controls.enabled = half === 'left' && !locked
    views.right.controls.enabled = half === 'right' && !locked
  }
  let locked = false
  canvas.addEventListener('pointerdown', choose, { capture: true })
  canvas.addEventListener('wheel', choose, { capture: true })

  /** places beside what is drawn that belong into the picture as well */
  let beside: Vector3[] = []
  const boxOf = (slots?: Set<string>): Box3 => {
    box.makeEmpty()
    if (!slots) for (const p of beside) box.expandByPoint(p)
    for (const { object, shown } of objects.values()) if (!slots || slots.has(shown.slot)) box.union(boxWithoutStrays(shown).applyMatrix4(object.matrix))
    return box
  }
  const frameView = (v: Viewpoint, b: Box3, direction?: Vector3) => {
    if (frameOn(v, b, direction)) draw()
  }
  const frame = (direction?: Vector3) => {
    turned = false
    onPart = !complete
    framedBox.copy(boxOf())
    framedSlots = slots()
    if (sides) {
      frameView(views.left, boxOf(sides.left).clone(), direction)
      frameView(views.right, boxOf(sides.right).clone(), direction)
    } else frameView(views.left, boxOf(), direction)
  }

  return {
    software,
    views,
    /** heard after each drawing */
    onDraw(f: () => void) {
      listeners.add(f)
      return () => void listeners.delete(f)
    },
    resize(w: number, h: number) {
      if (w < 2 || h < 2) return
      size.set(w, h)
      renderer.setSize(w, h, false)
      light.resize(w * renderer.getPixelRatio(), h * renderer.getPixelRatio())
      for (const v of Object.values(views)) {
        v.camera.aspect = (sides ? w / 2 : w) / h
        v.camera.updateProjectionMatrix()
      }
      draw()
    },
    /** `whole`: nothing is on its way any more; until then the view is framed anew with everything that comes */
    setShown(list: Shown[], most: { moving: number; resting: number }, whole: boolean) {
      budget = most
      complete = whole
      const wanted = new Set(list.map((s) => s.id))
      for (const [id, o] of objects)
        if (!wanted.has(id)) {
          scene.remove(o.object)
          o.object.geometry.dispose()
          ;(o.object.material as ShaderMaterial).dispose()
          objects.delete(id)
          fine.set(id, null)
        }
      for (const s of list) {
        let o = objects.get(s.id)
        if (!o) {
          o = { object: makeObject(s, pointSize), shown: s }
          o.object.userData['slot'] = s.slot
          objects.set(s.id, o)
          scene.add(o.object)
        }
        place(o.object, s)
        o.shown = s
      }
      if (!framed && list.length) {
        framed = whole
        frame(new Vector3(0.42, -0.76, 0.5).normalize())
      } else if (whole && list.length && !turned && (sides ? onPart : isOther(boxOf(), framedBox, slots() === framedSlots))) frame()
      draw()
    },
    /** The whole of a cloud, of which a part is shown already. */
    setWhole(id: string, arrays: Arrays) {
      if (!objects.has(id) || fine.has(id)) return
      fine.set(id, arrays)
      if (canvas.dataset['settled'] === '1') refine()
    },
    look(l: Look) {
      for (const { object, shown } of objects.values()) {
        const u = (object.material as ShaderMaterial).uniforms
        u['limit'].value = l.limit
        u['scale'].value = l.scale
        const p = l.plane && l.plane.slots.has(shown.slot) ? l.plane : null
        u['plane'].value.set(...((p ? [...p.normal, p.offset] : [0, 0, 1, -1e30]) as [number, number, number, number]))
        if (u['chosen']) {
          const chosen = shown.faces ? l.chosen.slice(0, 64) : []
          u['chosen'].value = Float32Array.from({ length: 64 }, (_, i) => chosen[i] ?? -5)
          u['chosenCount'].value = chosen.length
        }
      }
      draw()
    },
    split(s: { left: Set<string>; right: Set<string> } | null) {
      const was = sides !== null
      sides = s
      for (const v of Object.values(views)) {
        v.camera.aspect = (s ? size.x / 2 : size.x) / size.y
        v.camera.updateProjectionMatrix()
      }
      if (s && !was) {
        // both look the same way: from the same place at the same place
        views.right.camera.position.copy(views.left.camera.position)
        views.right.controls.target.copy(views.left.controls.target)
        frame()
      } else if (!s && was) frame()
      draw()
    },
    /** no turning while a loop is drawn */
    lock(v: boolean) {
      locked = v
      views.left.controls.enabled = !v
    },
    halfAt,
    frame,
    /** to the right and down, degrees */
    turn(right: number, down: number) {
      turned = true
      turnBy(views.left, right, down)
      draw()
    },
    /** so many times */
    nearer(times: number) {
      turned = true
      comeNearer(views.left, times)
      draw()
    },
    bearings: () => bearingsOf(views.left, size.y),
    /** told when the graphics card is taken away (another program, a sleeping machine), and when it is back */
    onContext(f: (there: boolean) => void) {
      const lost = (e: Event) => {
        // else it would never come back
        e.preventDefault()
        f(false)
      }
      const back = () => {
        f(true)
        draw()
      }
      canvas.addEventListener('webglcontextlost', lost)
      canvas.addEventListener('webglcontextrestored', back)
      return () => {
        canvas.removeEventListener('webglcontextlost', lost)
        canvas.removeEventListener('webglcontextrestored', back)
      }
    },
    lookFrom(view: number) {
      const d = standardDirection(view)
      if (d) frame(d)
    },
    /** x, y from the upper left of the stage */
    async pick(x: number, y: number) {
      const half = halfAt(x)
      show(half)
      // the same click meets the same place, whether the view was resting or not
      someOf(true)
      const w = sides ? size.x / 2 : size.x
      const all = [...objects.values()].map((o) => o.object)
      return { half, hit: await picking.pick(views[half].camera, all, x - (half === 'right' ? w : 0), y, w, size.y, fine.wholes(objects)) }
    },
    /** turns about this place from now on */
    pivot(at: number[], half: 'left' | 'right') {
      pivotOn(views[half], at)
      draw()
    },
    /** place in the job to place on the stage; null behind the camera */
    project(at: readonly number[], half: 'left' | 'right' = 'left'): { x: number; y: number } | null {
      const v = new Vector3(at[0], at[1], at[2]).project(views[half].camera)
      if (v.z > 1) return null
      const w = sides ? size.x / 2 : size.x
      return { x: ((v.x + 1) / 2) * w + (half === 'right' ? w : 0), y: ((1 - v.y) / 2) * size.y }
    },
    /** Markers around the part: framing takes them in, and does so at once when there were none before. */
    setBeside(list: readonly (readonly number[])[]) {
      const first = beside.length === 0 && list.length > 0
      beside = list.map((p) => new Vector3(p[0], p[1], p[2]))
      if (first) frame()
    },
    /** where one looks from, in the job */
    eye(): [number, number, number] {
      const p = views.left.camera.position
      return [p.x, p.y, p.z]
    },
    /** the line of sight through a place of the window, in the job */
    ray: (clientX: number, clientY: number) => rayThrough(views.left.camera, canvas.getBoundingClientRect(), clientX, clientY),
    /** what a loop is kept with */
    camera: () => projectionOf(views.left.camera),
    draw,
    dispose() {
      cancelAnimationFrame(queued)
      clearTimeout(resting)
      clearTimeout(finer)
      fine.dispose()
      light.dispose()
      for (const v of Object.values(views)) v.controls.dispose()
      for (const { object } of objects.values()) {
        object.geometry.dispose()
        ;(object.material as ShaderMaterial).dispose()
      }
      picking.dispose()
      canvas.removeEventListener('pointerdown', choose, { capture: true })
      canvas.removeEventListener('wheel', choose, { capture: true })
      renderer.dispose()
    },
  }
}

export type Stage = ReturnType<typeof createStage>
