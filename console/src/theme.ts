import { mdiPaperclip } from '@mdi/js'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'
import { createVuetify } from 'vuetify'

const nonce = document.querySelector<HTMLMetaElement>('meta[name=csp-nonce]')?.content

// Harbour colours: water, sailcloth, lamp and rust; each keeps contrast AA on its ground.
const light = {
  background: '#f4f2ec',
  surface: '#ffffff',
  'surface-light': '#faf8f3',
  primary: '#1d5c63',
  secondary: '#5a5346',
  success: '#22663b',
  warning: '#8a5300',
  error: '#a8321f',
  info: '#275d94',
}
const dark = {
  background: '#121a1c',
  surface: '#1a2427',
  'surface-light': '#223034',
  primary: '#7cc4cb',
  secondary: '#c9bfa9',
  success: '#7fcf9a',
  warning: '#efb35c',
  error: '#f2917f',
  info: '#8cbdf0',
}

const saved = localStorage.getItem('theme')
const prefersDark = window.matchMedia('(prefers-color-scheme: dark)').matches

export const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  theme: {
    cspNonce: nonce,
    defaultTheme: saved ?? (prefersDark ? 'dark' : 'light'),
    themes: {
      light: { dark: false, colors: light, variables: { 'medium-emphasis-opacity': 0.74 } },
      dark: { dark: true, colors: dark, variables: { 'medium-emphasis-opacity': 0.8 } },
    },
  },
  defaults: {
    VBtn: { variant: 'flat', rounded: 'md', class: 'text-none' },
    VTextField: { density: 'compact', variant: 'outlined', hideDetails: 'auto' },
    VSelect: { density: 'compact', variant: 'outlined', hideDetails: 'auto' },
    VAutocomplete: { density: 'compact', variant: 'outlined', hideDetails: 'auto' },
    VCombobox: { density: 'compact', variant: 'outlined', hideDetails: 'auto' },
    VTextarea: { density: 'compact', variant: 'outlined', hideDetails: 'auto' },
    VFileInput: {
      density: 'compact',
      variant: 'outlined',
      hideDetails: 'auto',
      prependIcon: '',
      prependInnerIcon: mdiPaperclip,
    },
    VCheckbox: { density: 'compact', hideDetails: true },
    VSwitch: { density: 'compact', hideDetails: true, color: 'primary' },
    VCard: { rounded: 'md', elevation: 0, border: true },
    VChip: { size: 'small', variant: 'tonal', rounded: 'sm' },
    VAlert: { variant: 'tonal', density: 'compact', rounded: 'md' },
    VDialog: { scrollable: true },
  },
})
