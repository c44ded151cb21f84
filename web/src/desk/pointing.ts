/** What the pointer does in the view besides turning it: dragging handles and the probe, adding points to a path. */
import * as THREE from 'three'
import { onBeforeUnmount, onMounted, ref, type ComputedRef } from 'vue'
import type { Vec3 } from '../api/model'
import { appendPoint, type Handle } from '../scene/handles'
import type { Viewer } from '../scene/viewer'
import { useLook } from '../stores/look'
import { useView } from '../stores/view'

interface Scene {
  viewer: () => Viewer | null
  handles: ComputedRef<Handle[]>
  frame: THREE.Group
  shapes: THREE.Group
  changed: () => void
  taken: () => void
}

export function usePointing({ viewer, handles, frame, shapes, changed, taken }: Scene) {
  const look = useLook()
  const shows = useView()
  /** Whether the probe is held, and which handle is. */
  const holdsProbe = ref(false)
  const held = ref('')
  let plane = new THREE.Plane()
  let probe = { start: 0, at: new THREE.Vector3() }

  /** The handle under the pointer, if any: nearest on the screen within a few pixels. */
  function handleAt(event: PointerEvent): Handle | undefined {
    const v = viewer()!
    const r = v.renderer.domElement.getBoundingClientRect()
    let best: { handle: Handle; d: number } | null = null
    for (const handle of handles.value) {
      const p = v.project(handle.at)
      const d = Math.hypot(p.x - (event.clientX - r.left), p.y - (event.clientY - r.top))
      if (!p.behind && d < 11 && (!best || d < best.d)) best = { handle, d }
    }
    return best?.handle
  }
  /** Where a click meets a shown shape, else the probe's plane. */
  function clicked(event: PointerEvent): Vec3 | null {
    const hit = viewer()!
      .ray(event)
      .intersectObjects([
        ...shapes.children.filter((m) => m.name !== shows.drawing),
        ...frame.children.filter((m) => m.name === 'probe'),
      ])[0]
    return hit ? (hit.point.toArray() as Vec3) : null
  }
  function hold(event: PointerEvent, normal: THREE.Vector3, at: THREE.Vector3) {
    event.stopImmediatePropagation()
    viewer()!.controls.enabled = false
    plane = new THREE.Plane().setFromNormalAndCoplanarPoint(normal, at)
    changed()
  }
  function down(event: PointerEvent) {
    const v = viewer()
    taken()
    if (!v || event.button !== 0) return
    if (shows.drawing) {
      const at = clicked(event)
      if (at) {
        event.stopImmediatePropagation()
        appendPoint(shows.drawing, at)
      }
      return
    }
    const handle = handleAt(event)
    if (handle) {
      held.value = handle.id
      hold(event, v.camera.getWorldDirection(new THREE.Vector3()), new THREE.Vector3(...handle.at))
      return
    }
    const knob = frame.visible ? frame.getObjectByName('knob') : undefined
    const reach = Math.max(look.window.width, look.window.height) * 0.03
    if (!knob || v.ray(event).ray.distanceToPoint(knob.position) > reach) return
    const axis = new THREE.Vector3().setComponent(shows.axis, 1)
    const away = v.camera.getWorldDirection(new THREE.Vector3()).negate()
    const across = away.addScaledVector(axis, -away.dot(axis))
    if (across.lengthSq() < 1e-6) across.setComponent((shows.axis + 1) % 3, 1) // seen straight along its axis
    probe = { start: shows.share, at: knob.position.clone() }
    holdsProbe.value = true
    hold(event, across.normalize(), knob.position)
  }
  function move(event: PointerEvent) {
    const v = viewer()
    if (!v || !(held.value || holdsProbe.value)) return
    const to = v.ray(event).ray.intersectPlane(plane, new THREE.Vector3())
    if (!to) return
    if (holdsProbe.value) {
      const span = look.box.upper[shows.axis] - look.box.lower[shows.axis]
      shows.share = Math.max(0, Math.min(1, probe.start + to.sub(probe.at).getComponent(shows.axis) / span))
      return
    }
    const handle = handles.value.find((h) => h.id === held.value)
    if (handle && event.shiftKey) {
      to.x = handle.at[0]
      to.y = handle.at[1]
    }
    handle?.put(to.toArray() as Vec3)
  }
  function up() {
    const v = viewer()
    if (v && (held.value || holdsProbe.value)) v.controls.enabled = true
    holdsProbe.value = false
    held.value = ''
    changed()
  }
  const escape = (event: KeyboardEvent) => {
    if (event.key === 'Escape') shows.drawing = ''
  }
  onMounted(() => {
    viewer()!.renderer.domElement.addEventListener('pointerdown', down, { capture: true })
    window.addEventListener('pointermove', move)
    window.addEventListener('pointerup', up)
    window.addEventListener('keydown', escape)
  })
  onBeforeUnmount(() => {
    window.removeEventListener('pointermove', move)
    window.removeEventListener('pointerup', up)
    window.removeEventListener('keydown', escape)
  })
  return { holdsProbe, held, handleAt }
}
