import { ref, watch } from 'vue'

/** The columns that somebody does not want to see in a list, kept in this browser. */
export function useHiddenColumns(list: string) {
  const place = `columns hidden in ${list}`
  const hidden = ref<string[]>(read(place))
  watch(hidden, (now) =>
    now.length ? localStorage.setItem(place, now.join(' ')) : localStorage.removeItem(place),
  )

  function toggle(key: string) {
    const isHidden = hidden.value.includes(key)
    hidden.value = isHidden ? hidden.value.filter((one) => one !== key) : [...hidden.value, key]
  }

  return { hidden, toggle }
}

const read = (place: string) => localStorage.getItem(place)?.split(' ').filter(Boolean) ?? []
