import { api, got, listed } from '../../api/client'
import { valuesOf } from '../filters/filters'
import { called } from '../formats'

/** What a form can ask for that the service knows. */
export type Kind =
  | 'person'
  | 'group'
  | 'order'
  | 'cohort'
  | 'list'
  | 'device'
  | 'site'
  | 'supplier'
  | 'maker'
  | 'model'

export interface Choice {
  value: string
  title: string
  subtitle?: string
}

interface Source {
  find: (text: string, left: boolean) => Promise<Choice[]>
  /** How much is typed before it is asked for. */
  least: number
  /** What nobody knows yet may be named all the same. */
  free?: boolean
  /** Where what is missing is made, and how that is said. */
  make?: { say: string; to: string }
  none: string
}

const fitting = (text: string, found: Choice[]) => {
  const wanted = text.toLowerCase()
  return found.filter((one) => `${one.title} ${one.subtitle ?? ''}`.toLowerCase().includes(wanted))
}
const plainly = (names: string[]): Choice[] => names.map((name) => ({ value: name, title: name }))
const among = (attribute: string, none: string): Source => ({
  find: async (text) => plainly(await valuesOf(attribute, text)),
  least: 0,
  free: true,
  none,
})
const cohorts = (wanted: 'list' | null): Source => ({
  find: async (text) => {
    const found = await listed(api.GET('/api/v1/cohorts'))
    const choices = found
      .filter((one) => wanted === null || one.kind === wanted)
      .map((one) => ({
        value: wanted ? String(one.id) : one.name,
        title: one.name,
        subtitle: one.note ?? undefined,
      }))
    return fitting(text, choices)
  },
  least: 0,
  make: { say: 'Add a cohort', to: '/cohorts' },
  none: wanted ? 'No list is called so.' : 'No cohort is called so.',
})

export const SOURCES: Record<Kind, Source> = {
  person: {
    find: async (text, left) => {
      const query = { query: text, limit: 12 }
      const { items } = await got(api.GET('/api/v1/people', { params: { query } }))
      return items
        .filter((one) => left || !one.left_at)
        .map((one) => ({
          value: one.user_name,
          title: `${one.name} (${one.user_name})`,
          subtitle: [one.department, one.site].filter(Boolean).join(', ') || undefined,
        }))
    },
    least: 2,
    make: { say: 'Import people', to: '/people' },
    none: 'Nobody here is called so.',
  },
  group: {
    find: async (text) =>
      fitting(
        text,
        (await listed(api.GET('/api/v1/groups'))).map((one) => ({
          value: one.name,
          title: one.name,
          subtitle: `${one.people} people`,
        })),
      ),
    least: 0,
    make: { say: 'Groups come with people', to: '/people' },
    none: 'No group is called so.',
  },
  order: {
    find: async (text) =>
      fitting(
        text,
        (await listed(api.GET('/api/v1/orders'))).map((one) => ({
          value: one.name,
          title: one.name,
          subtitle: [one.supplier, one.note].filter(Boolean).join(', ') || undefined,
        })),
      ),
    least: 0,
    free: true,
    make: { say: 'Add the order', to: '/orders' },
    none: 'There is no such order yet.',
  },
  cohort: cohorts(null),
  list: cohorts('list'),
  device: {
    find: async (text) => {
      const query = { query: text, limit: 12 }
      const { items } = await got(api.GET('/api/v1/devices', { params: { query } }))
      return items.map((one) => ({
        value: String(one.id),
        title: called(one),
        subtitle: [one.model, one.serial, one.person_name, one.site].filter(Boolean).join(' · '),
      }))
    },
    least: 3,
    none: 'No device here is known by that.',
  },
  site: among('site', 'No device is at such a site yet.'),
  supplier: among('supplier', 'Nothing came from such a supplier yet.'),
  maker: among('maker', 'No device is of such a maker yet.'),
  model: among('model', 'No device is of such a model yet.'),
}
