/** Put the caret into a field that is just appearing: an overlay may take the focus back while it opens. */
export function focusSoon(field: () => HTMLElement | null | undefined, tries = 8) {
  const at = field()
  at?.focus()
  if (tries > 0 && document.activeElement !== at) window.setTimeout(() => focusSoon(field, tries - 1), 60)
  else if (tries > 5) window.setTimeout(() => focusSoon(field, 5), 120)
}
