/** The curves of the core, for drawing: monotone (profiles) and smooth (keys). */
type Point = [number, number]

function hermite(points: Point[], slopes: number[]): (x: number) => number {
  return (x) => {
    const n = points.length
    if (n === 1 || x <= points[0][0]) return points[0][1]
    if (x >= points[n - 1][0]) return points[n - 1][1]
    let i = 0
    while (x > points[i + 1][0]) i++
    const h = points[i + 1][0] - points[i][0]
    const s = (x - points[i][0]) / h
    return (
      points[i][1] * (1 + 2 * s) * (1 - s) ** 2 +
      h * slopes[i] * s * (1 - s) ** 2 +
      points[i + 1][1] * s * s * (3 - 2 * s) +
      h * slopes[i + 1] * s * s * (s - 1)
    )
  }
}

/** Fritsch and Carlson's monotone cubic, as the core's profiles. */
export function monotone(points: Point[]): (x: number) => number {
  const n = points.length
  const h = points.slice(1).map((p, i) => p[0] - points[i][0])
  const d = points.slice(1).map((p, i) => (p[1] - points[i][1]) / h[i])
  const end = (h0: number, h1: number, d0: number, d1: number) => {
    const m = ((2 * h0 + h1) * d0 - h0 * d1) / (h0 + h1)
    if (Math.sign(m) !== Math.sign(d0)) return 0
    return Math.sign(d0) !== Math.sign(d1) && Math.abs(m) > 3 * Math.abs(d0) ? 3 * d0 : m
  }
  const slopes = points.map((_, i) => {
    if (n === 2) return d[0]
    if (i === 0) return end(h[0], h[1], d[0], d[1])
    if (i === n - 1) return end(h[n - 2], h[n - 3], d[n - 2], d[n - 3])
    if (d[i - 1] * d[i] <= 0) return 0
    const a = 2 * h[i] + h[i - 1]
    const b = h[i] + 2 * h[i - 1]
    return (a + b) / (a / d[i - 1] + b / d[i])
  })
  return hermite(points, slopes)
}

/** Keys: finite-difference slopes, flat at the ends, as the core's keys. */
export function smooth(points: Point[]): (x: number) => number {
  const n = points.length
  return hermite(
    points,
    points.map((_, i) =>
      i === 0 || i === n - 1 ? 0 : (points[i + 1][1] - points[i - 1][1]) / (points[i + 1][0] - points[i - 1][0]),
    ),
  )
}
