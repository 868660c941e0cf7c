/** What became of a frame. late: it came faster than it could be tracked, and is placed at the end. out: a person left it out. */
export const FATES = ['placed', 'weak', 'lost', 'late', 'out'] as const
export type Fate = (typeof FATES)[number]

/** By frame, in the order of time. */
export interface FrameFates {
  /** s since the first frame */
  times: ArrayLike<number>
  /** numbers of FATES */
  fates: ArrayLike<number>
  /** how well it is held along its weakest motion, mm (1 sigma); NaN where it has no place */
  sigmas: ArrayLike<number>
  /** how much of the model was known after it: points of the pass, or cubes of the surface */
  known: ArrayLike<number>
}

/** The course of a recording, in parts of equal length. */
export interface Timeline {
  /** s, from the first frame to the last */
  seconds: number
  /** by part: frames a second */
  rate: number[]
  /** by part: share of its frames of each fate; empty where no part has one of them */
  shares: Record<Fate, number[]>
  /** by part: median of how well its frames are held, mm (1 sigma); null where none has a place */
  sigma: (number | null)[]
  /** by part: how much of the model was known at its end */
  known: number[]
}

const round = (v: number, digits: number) => Number(v.toFixed(digits))

/** frames of a part, at the least and on average: of fewer the rate would jump */
const LEAST = 5

/** At the most so many parts. One without frames has the rate 0, and no shares. */
export function timelineOf({ times, fates, sigmas, known }: FrameFates, most = 200): Timeline {
  const n = times.length
  const seconds = n ? times[n - 1] - times[0] : 0
  const parts = Math.max(1, Math.min(most, Math.ceil(n / LEAST)))
  const counts = new Float64Array(parts)
  const gone = new Float64Array(parts)
  const by = FATES.map(() => new Float64Array(parts))
  const held: number[][] = Array.from({ length: parts }, () => [])
  const upTo = new Float64Array(parts)
  for (let i = 0; i < n; i++) {
    const k = seconds > 0 ? Math.min(parts - 1, Math.floor(((times[i] - times[0]) / seconds) * parts)) : 0
    counts[k]++
    // from this frame to the next; after the last there is none
    if (i < n - 1) gone[k]++
    by[fates[i]][k]++
    if (FATES[fates[i]] === 'placed' && Number.isFinite(sigmas[i])) held[k].push(sigmas[i])
    upTo[k] = Math.max(upTo[k], known[i])
  }
  for (let k = 1; k < parts; k++) upTo[k] = Math.max(upTo[k], upTo[k - 1])
  return {
    seconds: round(seconds, 3),
    rate: Array.from(gone, (c) => (seconds > 0 ? round((c * parts) / seconds, 2) : 0)),
    shares: Object.fromEntries(
      FATES.map((f, j) => [f, by[j].some((c) => c > 0) ? Array.from(by[j], (c, k) => round(c / Math.max(1, counts[k]), 3)) : []]),
    ) as Record<Fate, number[]>,
    sigma: held.map((list) => (list.length ? round(list.sort((a, b) => a - b)[list.length >> 1], 5) : null)),
    known: Array.from(upTo),
  }
}

/** Spans of a recording, s since its first frame: from (with it) to (with it). */
export type Spans = readonly (readonly [number, number])[]

/** The spans in order; those that touch one another are one. Ends may be given the other way round. */
export function orderedSpans(spans: Spans): [number, number][] {
  const out: [number, number][] = []
  for (const [a, b] of spans.map(([x, y]) => [Math.min(x, y), Math.max(x, y)]).sort((x, y) => x[0] - y[0])) {
    const last = out.at(-1)
    if (last && a <= last[1]) last[1] = Math.max(last[1], b)
    else out.push([a, b])
  }
  return out
}
/** The spans but for what lies in one of them. */
export const cutOut = (spans: Spans, [from, to]: readonly [number, number]): [number, number][] =>
  orderedSpans(spans).flatMap(([a, b]): [number, number][] =>
    b < from || a > to ? [[a, b]] : [...(a < from ? [[a, from] as [number, number]] : []), ...(b > to ? [[to, b] as [number, number]] : [])],
  )
export const inSpans = (spans: Spans, seconds: number): boolean => spans.some(([from, to]) => seconds >= from && seconds <= to)
