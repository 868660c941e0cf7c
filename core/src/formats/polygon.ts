import earcut from 'earcut'

/** Triangles (corner numbers) of a polygon in space, also when it is concave (ear clipping in its own plane). */
export function triangulatePolygon(points: number[]): number[] {
  const n = points.length / 3
  if (n === 3) return [0, 1, 2]
  // Newell's normal; the plane's largest component is dropped
  let [nx, ny, nz] = [0, 0, 0]
  for (let i = 0; i < n; i++) {
    const j = (i + 1) % n
    nx += (points[3 * i + 1] - points[3 * j + 1]) * (points[3 * i + 2] + points[3 * j + 2])
    ny += (points[3 * i + 2] - points[3 * j + 2]) * (points[3 * i] + points[3 * j])
    nz += (points[3 * i] - points[3 * j]) * (points[3 * i + 1] + points[3 * j + 1])
  }
  const [ax, ay, az] = [Math.abs(nx), Math.abs(ny), Math.abs(nz)]
  const [u, v, sign] = ax >= ay && ax >= az ? [1, 2, nx] : ay >= az ? [2, 0, ny] : [0, 1, nz]
  const flat: number[] = []
  for (let i = 0; i < n; i++) flat.push(points[3 * i + u], points[3 * i + v])
  const t = earcut(flat)
  let area = 0
  for (let i = 0; i < t.length; i += 3) {
    const [a, b, c] = [t[i], t[i + 1], t[i + 2]]
    area += (flat[2 * b] - flat[2 * a]) * (flat[2 * c + 1] - flat[2 * a + 1]) - (flat[2 * b + 1] - flat[2 * a + 1]) * (flat[2 * c] - flat[2 * a])
  }
  if (area * sign < 0) for (let i = 0; i < t.length; i += 3) [t[i + 1], t[i + 2]] = [t[i + 2], t[i + 1]]
  return t
}
