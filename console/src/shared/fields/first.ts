import type { Directive } from 'vue'

/**
 * The field that somebody begins with has the focus from the moment it is there. (The browser's
 * own `autofocus` counts once a page, the framework's comes late: whoever typed by then, elsewhere
 * in the dialog, would lose it.)
 */
export const vFirst: Directive<HTMLElement> = {
  mounted(element) {
    const field = element.matches('button') ? element : element.querySelector('input, textarea')
    ;(field as HTMLElement | null)?.focus({ preventScroll: true })
  },
}
