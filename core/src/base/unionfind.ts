/** What hangs together of 0 .. n - 1 (Galler and Fischer 1964; paths halved, Tarjan and van Leeuwen 1984). */
export interface UnionFind {
  /** the least of those that i hangs together with: it does not depend on the order in which they were joined */
  find(i: number): number
  join(a: number, b: number): void
}

export function unionFind(n: number): UnionFind {
  const parent = new Int32Array(n)
  for (let i = 0; i < n; i++) parent[i] = i
  const find = (i: number): number => {
    while (parent[i] !== i) {
      parent[i] = parent[parent[i]]
      i = parent[i]
    }
    return i
  }
  return {
    find,
    join(a, b) {
      const [x, y] = [find(a), find(b)]
      if (x < y) parent[y] = x
      else parent[x] = y
    },
  }
}
