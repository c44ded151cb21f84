/** Numbers as people type them: arithmetic and units (`4*0.05`, `20 cm`, `1/3`), and as we show them. */
const FACTORS: Record<string, Record<string, number>> = {
  m: { m: 1, cm: 0.01, mm: 0.001, km: 1000 },
  s: { s: 1, ms: 0.001, min: 60 },
  'm/s': { 'm/s': 1, 'cm/s': 0.01, 'km/h': 1 / 3.6 },
  '°': { '°': 1, deg: 1, rad: 180 / Math.PI },
  '/s': { '/s': 1, '/min': 1 / 60 },
}

/** The value of a typed expression in `unit`, or an error that says what is wrong. */
export function parseQuantity(text: string, unit: string): number {
  const source = text
    .trim()
    .replace(/,(?=\d)/g, '.')
    .replace(/×/g, '*')
  let at = 0
  const skip = () => {
    while (source[at] === ' ') at++
  }
  const fail = (what: string): never => {
    throw new Error(what)
  }
  function atom(): number {
    skip()
    if (source[at] === '-') {
      at++
      return -atom()
    }
    if (source[at] === '+') {
      at++
      return atom()
    }
    if (source[at] === '(') {
      at++
      const inner = sum()
      skip()
      if (source[at] !== ')') fail('a bracket is not closed')
      at++
      return inner
    }
    const found = /^(\d+\.?\d*|\.\d+)(e[+-]?\d+)?/i.exec(source.slice(at))
    if (!found) fail(at < source.length ? `'${source.slice(at)}' is not a number` : 'a number is missing')
    at += found![0].length
    skip()
    const word = /^(°|[a-z]+(\/[a-z]+)?|\/(?:s|min)\b)/i.exec(source.slice(at))
    const value = Number(found![0])
    if (!word) return value
    const factor = FACTORS[unit]?.[word[0]]
    if (factor === undefined)
      fail(unit ? `'${word[0]}' does not fit here; the unit is ${unit}` : `'${word[0]}': this has no unit`)
    at += word[0].length
    return value * factor!
  }
  function product(): number {
    let value = atom()
    for (;;) {
      skip()
      if (source[at] === '*') {
        at++
        value *= atom()
      } else if (source[at] === '/') {
        at++
        value /= atom()
      } else return value
    }
  }
  function sum(): number {
    let value = product()
    for (;;) {
      skip()
      if (source[at] === '+') {
        at++
        value += product()
      } else if (source[at] === '-') {
        at++
        value -= product()
      } else return value
    }
  }
  const value = sum()
  skip()
  if (at < source.length) fail(`'${source.slice(at)}' is not understood`)
  if (!Number.isFinite(value)) fail('that is not a finite number')
  return value
}

export function shown(value: number, digits = 4): string {
  if (!Number.isFinite(value)) return '–'
  if (value === 0) return '0'
  const size = Math.abs(value)
  if (size >= 1e6 || size < 1e-4) return value.toExponential(1).replace('e+', 'e')
  return String(Number(value.toPrecision(digits)))
}

export function bytes(n: number): string {
  return n >= 1e9 ? `${(n / 1e9).toFixed(1)} GB` : n >= 1e6 ? `${(n / 1e6).toFixed(1)} MB` : `${Math.ceil(n / 1e3)} kB`
}

/** A while in words, from seconds. */
export const long = (s: number) =>
  s < 60 ? `${Math.max(1, Math.round(s))} s` : s < 3600 ? `${Math.round(s / 60)} min` : `${(s / 3600).toFixed(1)} h`
