/** A wavy sheet of 2 n² triangles, 0.3 mm wide each, as binary STL. */
export function wavySheet(n: number): Buffer<ArrayBuffer> {
  const stl = Buffer.alloc(84 + 50 * 2 * n * n)
  stl.writeUInt32LE(2 * n * n, 80)
  const z = (i: number, j: number) => 5 * Math.sin(i / 40) * Math.cos(j / 30)
  let at = 84
  for (let i = 0; i < n; i++)
    for (let j = 0; j < n; j++)
      for (const corners of [
        [i, j, i + 1, j, i + 1, j + 1],
        [i, j, i + 1, j + 1, i, j + 1],
      ]) {
        for (let c = 0; c < 6; c += 2) {
          stl.writeFloatLE(0.3 * corners[c], at + 12 + 6 * c)
          stl.writeFloatLE(0.3 * corners[c + 1], at + 16 + 6 * c)
          stl.writeFloatLE(z(corners[c], corners[c + 1]), at + 20 + 6 * c)
        }
        at += 50
      }
  return stl
}
