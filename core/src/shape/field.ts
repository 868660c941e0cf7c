/** A number for every vertex of a mesh, or for every point. */
export interface Field {
  readonly kind: 'field'
  /** N, NaN where there is none */
  readonly values: Float32Array
  readonly unit: string
}
