import type { CadSurface } from '@oak-gauge/core/base/cad.ts'
import { count } from './quantity.ts'
import { t } from '../words/t.ts'

const mm = (v: number) => Number(v.toPrecision(7)).toString()
const degrees = (v: number) => Number(((v * 180) / Math.PI).toPrecision(6)).toString()
const PLAIN: Record<CadSurface['kind'], string> = {
  plane: t('plane'),
  cylinder: t('cylinder'),
  cone: t('cone'),
  sphere: t('ball'),
  torus: t('ring'),
  free: t('free form'),
}
const HOLLOW: Partial<Record<CadSurface['kind'], string>> = { cylinder: t('bore'), cone: t('countersink'), sphere: t('hollow ball'), torus: t('groove') }

/** What a face of the drawing is, in a technician's words: "bore ⌀ 10 mm". */
export function surfaceWords(s: CadSurface): string {
  const name = 'hollow' in s && s.hollow ? (HOLLOW[s.kind] ?? PLAIN[s.kind]) : PLAIN[s.kind]
  if (s.kind === 'cylinder' || s.kind === 'sphere') return `${name} ⌀ ${mm(2 * s.radius)} mm`
  if (s.kind === 'cone') return t('{{name}} of {{halfAngle}}°', { name, halfAngle: degrees(2 * s.halfAngle) })
  if (s.kind === 'torus') return t('{{name}} of radius {{minor}} round ⌀ {{major}} mm', { name, minor: mm(s.minor), major: mm(2 * s.major) })
  return `${name}, ${s.area >= 1000 ? count(Number(s.area.toPrecision(4))) : mm(Number(s.area.toPrecision(4)))} mm²`
}
