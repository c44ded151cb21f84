/** When something was, in the user's time zone, in the one way of this interface: day before month, 24 hours. */

const said = (t: string | number | Date, seconds: boolean) => {
  const at = new Date(t)
  const year = at.getFullYear() === new Date().getFullYear() ? undefined : 'numeric'
  const second = seconds ? '2-digit' : undefined
  const clock = { hour: '2-digit', minute: '2-digit', second, hour12: false } as const
  return at.toLocaleString('en-GB', { day: 'numeric', month: 'short', year, ...clock }).replace(/,/g, '')
}

/** 1 Dec 02:11; the year too where it is another. */
export const toMinute = (t: string | number | Date) => said(t, false)
/** 1 Dec 02:11:47. */
export const toSecond = (t: string | number | Date) => said(t, true)
/** 02:11:47. */
export const clock = (t: string | number | Date) => new Date(t).toLocaleTimeString('en-GB', { hour12: false })
