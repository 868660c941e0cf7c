/** What is wrong with an image, in the words every error has. Nothing is thrown: a guided run goes on with the next image. */
export const PLATE_TROUBLES = [
  'no-plate',
  'half-out',
  'blurred',
  'overexposed',
  'too-dark',
  'two-plates',
  'wrong-plate',
  'marks-hidden',
  'dots-too-small',
  'dots-too-large',
] as const
export interface PlateTrouble {
  code: (typeof PLATE_TROUBLES)[number]
  message: string
  remedy: string
}

/** What an image shows of a plate. */
export interface PlateReading {
  /** number of each dot on the plate (row * columns + column) and its centre in the image, 2N px; empty with a trouble that stops */
  ids: Int32Array
  pixels: Float64Array
  /** share of the plate's dots that is seen, 0..1 */
  seen: number
  /** median radius of the dots and their blur, px; brightness of the ground and of the ink, grey levels */
  radius: number
  blur: number
  ground: number
  ink: number
  /** the image cannot be used */
  trouble: PlateTrouble | null
  /** it can, but: */
  advice: PlateTrouble | null
}

/** Nothing read yet. */
export const emptyReading = (): PlateReading => ({
  ids: new Int32Array(0),
  pixels: new Float64Array(0),
  seen: 0,
  radius: NaN,
  blur: NaN,
  ground: NaN,
  ink: NaN,
  trouble: null,
  advice: null,
})
