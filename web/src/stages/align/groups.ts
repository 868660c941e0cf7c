import type { Setup, Step, TrayItem } from '@oak-gauge/contract'

/** Passes that lie as they were recorded against one another, and move together. */
export interface Group {
  id: string
  name: string
  passes: TrayItem[]
  /** marker maps in the same axes, which go along */
  maps: TrayItem[]
}

/** Whether a recorded pass has axes of its own: shape alone held its frames, and its steps say so. */
const ownAxes = (pass: TrayItem, path: Step[]): boolean =>
  path.some((s) => s.operation === 'solve-recording' && s.outputs['pass']?.[0] === pass.slot && s.evidence?.poses?.[0]?.covariance === null)

/** The setups that have passes; a pass that was recorded in one and has axes of its own does not lie in it, and is a group by itself. */
export function groupsOf(setups: Setup[], tray: TrayItem[], path: Step[]): Group[] {
  return setups.flatMap((setup) => {
    const passes = tray.filter((i) => i.role === 'pass' && i.setup === setup.id)
    const maps = tray.filter((i) => i.role === 'marker-map' && i.setup === setup.id)
    const alone = passes.filter((p) => ownAxes(p, path))
    const together = passes.filter((p) => !alone.includes(p))
    if (passes.length === 1 && !maps.length) return [{ id: setup.id, name: setup.name, passes, maps }]
    return [
      ...(together.length ? [{ id: setup.id, name: setup.name, passes: together, maps }] : []),
      ...alone.map((p) => ({ id: p.slot, name: p.name, passes: [p], maps: [] })),
    ]
  })
}
