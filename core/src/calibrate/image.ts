/** A grey image, 8 bit, row after row. The centre of the upper left pixel is (0, 0). */
export interface GreyImage {
  width: number
  height: number
  data: Uint8Array
}

/** Sums over all pixels above and left: (width + 1) x (height + 1). Up to 16 million pixels fit. */
export function integralImage({ width, height, data }: GreyImage): Uint32Array {
  const w = width + 1
  const s = new Uint32Array(w * (height + 1))
  for (let y = 0; y < height; y++) {
    let row = 0
    for (let x = 0; x < width; x++) {
      row += data[y * width + x]
      s[(y + 1) * w + x + 1] = s[y * w + x + 1] + row
    }
  }
  return s
}
