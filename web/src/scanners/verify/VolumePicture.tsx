import { identity, invertRigid, transformPoint } from '@oak-gauge/core/base/mat4.ts'
import { bodyToLeft } from '@oak-gauge/core/scanner/spec.ts'
import type { BarReading } from '@oak-gauge/core/calibrate/ballbar.ts'
import type { ScannerDetail } from '@oak-gauge/contract'
import { t } from '../../words/t.ts'

/** The working volume from in front and from above, with the bar where it was measured; what is due is dashed. */
export function VolumePicture({ scanner, readings, length, limit }: { scanner: ScannerDetail; readings: BarReading[]; length: number; limit: number }) {
  const { near, far, ideal } = scanner.spec.range
  const { left } = scanner.spec.design
  const half = (z: number) => (0.5 * z * left.width) / left.fx
  const tall = (z: number) => (0.5 * z * left.height) / left.fy
  const w = 2 * half(far) + 60
  const h = 2 * tall(far) + 60
  const d = far - near + 80
  // measured in the left camera (of an arm, in its base): drawn as seen from the middle between the cameras
  const toBody = scanner.spec.arm ? identity() : invertRigid(bodyToLeft(scanner.spec.design))
  const bars = readings.map((r) => {
    const end = (s: number) => transformPoint(toBody, ...([0, 1, 2].map((k) => r.middle[k] + (s * r.direction[k] * length) / 2) as [number, number, number]))
    return { a: end(-1), b: end(1), bad: Math.abs(r.distance) > limit }
  })
  const bar = (x1: number, y1: number, x2: number, y2: number, bad: boolean, k: number) => (
    <g key={k} stroke={bad ? 'var(--brick)' : 'var(--deep)'} fill={bad ? 'var(--brick)' : 'var(--deep)'}>
      <line x1={x1} y1={y1} x2={x2} y2={y2} strokeWidth={w / 160} />
      <circle cx={x1} cy={y1} r={w / 45} stroke="none" />
      <circle cx={x2} cy={y2} r={w / 45} stroke="none" />
      <text x={x1} y={y1 + w / 90} fontSize={w / 30} textAnchor="middle" stroke="none" fill="var(--card)">
        {k + 1}
      </text>
    </g>
  )
  return (
    <div className="pair volume">
      <figure>
        <svg viewBox={`${-w / 2} ${-h / 2} ${w} ${h}`} role="img" aria-label={t('The bar’s positions seen from the scanner')}>
          <rect x={-half(far)} y={-tall(far)} width={2 * half(far)} height={2 * tall(far)} fill="var(--card)" stroke="var(--line)" strokeWidth={w / 300} />
          <rect
            x={-half(ideal)}
            y={-tall(ideal)}
            width={2 * half(ideal)}
            height={2 * tall(ideal)}
            fill="none"
            stroke="var(--oak)"
            strokeDasharray={`${w / 60}`}
            strokeWidth={w / 400}
          />
          {bars.map((b, k) => bar(b.a[0], b.a[1], b.b[0], b.b[1], b.bad, k))}
        </svg>
        <figcaption className="hint">{t('from the scanner; dashed: the field at {{ideal}} mm', { ideal })}</figcaption>
      </figure>
      <figure>
        <svg viewBox={`${-w / 2} ${-40} ${w} ${d}`} role="img" aria-label={t('The bar’s positions seen from above')}>
          <polygon
            points={`${-half(near)},0 ${half(near)},0 ${half(far)},${far - near} ${-half(far)},${far - near}`}
            fill="var(--card)"
            stroke="var(--line)"
            strokeWidth={w / 300}
          />
          <line
            x1={-half(ideal)}
            x2={half(ideal)}
            y1={ideal - near}
            y2={ideal - near}
            stroke="var(--oak)"
            strokeDasharray={`${w / 60}`}
            strokeWidth={w / 400}
          />
          {bars.map((b, k) => bar(b.a[0], b.a[2] - near, b.b[0], b.b[2] - near, b.bad, k))}
        </svg>
        <figcaption className="hint">{t('from above, the scanner at the top; {{near}} to {{far}} mm', { near, far })}</figcaption>
      </figure>
    </div>
  )
}
