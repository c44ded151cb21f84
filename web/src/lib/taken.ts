/** Files that the browser takes away. */
import { bytes } from './quantity'

/** Give the browser a file to keep. */
export function save(blob: Blob, name: string) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(blob)
  link.download = name
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
}
/** That it was taken, and where it is found again. */
export const taken = (name: string, size: number) =>
  `${name}, ${bytes(size)}: downloaded, into the folder where your browser keeps downloads`
