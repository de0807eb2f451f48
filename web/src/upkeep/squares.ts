// Area is a thing with its place in a picture, in parts of its width and height.
export interface Area<T> {
  of: T
  x: number
  y: number
  width: number
  height: number
}

// squares lays things out in a picture of a width and height, each with an area as large as
// its weight, as nearly square as can be. Weights are above zero and come the largest first.
export function squares<T>(things: T[], weight: (t: T) => number, width: number, height: number): Area<T>[] {
  const total = things.reduce((sum, t) => sum + weight(t), 0)
  const placed: Area<T>[] = []
  let [x, y, w, h] = [0, 0, width, height]
  const scale = total > 0 ? (width * height) / total : 0
  for (let from = 0; from < things.length; ) {
    // A row stands along the shorter side, and takes things while they get squarer by it.
    const side = Math.min(w, h)
    let to = from + 1
    let sum = weight(things[from]!) * scale
    for (; to < things.length; to++) {
      const next = sum + weight(things[to]!) * scale
      if (worst(things, weight, from, to + 1, next, side, scale) > worst(things, weight, from, to, sum, side, scale)) break
      sum = next
    }
    const depth = side > 0 ? sum / side : 0
    let at = 0
    for (const t of things.slice(from, to)) {
      const length = depth > 0 ? (weight(t) * scale) / depth : 0
      placed.push(w >= h ? { of: t, x, y: y + at, width: depth, height: length } : { of: t, x: x + at, y, width: length, height: depth })
      at += length
    }
    if (w >= h) [x, w] = [x + depth, w - depth]
    else [y, h] = [y + depth, h - depth]
    from = to
  }
  return placed
}

// worst is how far from square the worst of a row is, 1 for a square.
function worst<T>(things: T[], weight: (t: T) => number, from: number, to: number, sum: number, side: number, scale: number): number {
  let most = 0
  for (const t of things.slice(from, to)) {
    const area = weight(t) * scale
    most = Math.max(most, (side * side * area) / (sum * sum), (sum * sum) / (side * side * area))
  }
  return most
}
