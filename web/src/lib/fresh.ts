/** Names and ids that nothing has yet. */
/** A name that nothing else has: the wanted one, or with a number. */
export function freshName(wanted: string, taken: Iterable<string>): string {
  const used = new Set(taken)
  let name = wanted
  for (let n = 2; used.has(name); n++) name = `${wanted} ${n}`
  return name
}
export function freshId(wanted: string, taken: Iterable<string>): string {
  const used = new Set(taken)
  let base =
    wanted
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, '_')
      .replace(/^_+|_+$/g, '') || 'x'
  if (!/^[a-z]/.test(base)) base = `x_${base}`
  base = base.slice(0, 32)
  let id = base
  for (let n = 2; used.has(id); n++) id = `${base}_${n}`
  return id
}
