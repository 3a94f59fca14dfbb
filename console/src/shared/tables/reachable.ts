import type { Directive } from 'vue'

const watching = new WeakMap<HTMLElement, ResizeObserver>()

/** A table that scrolls is reached by the keyboard, and says what it is. */
export const vReachable: Directive<HTMLElement, string> = {
  mounted(table, { value: label }) {
    const frame = table.querySelector<HTMLElement>('.v-table__wrapper') ?? table
    const look = () => {
      const scrolls =
        frame.scrollWidth > frame.clientWidth || frame.scrollHeight > frame.clientHeight + 1
      if (scrolls) {
        frame.tabIndex = 0
        frame.setAttribute('role', 'region')
        frame.setAttribute('aria-label', label)
      } else for (const name of ['tabindex', 'role', 'aria-label']) frame.removeAttribute(name)
    }
    const observer = new ResizeObserver(look)
    observer.observe(frame)
    if (frame.firstElementChild) observer.observe(frame.firstElementChild)
    watching.set(table, observer)
  },
  unmounted(table) {
    watching.get(table)?.disconnect()
  },
}
