// Sea air and ink: the console's two themes.
import { createVuetify, type ThemeDefinition } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

const light: ThemeDefinition = {
  dark: false,
  colors: {
    background: '#EDF2EF',
    surface: '#FBFDFB',
    'on-background': '#1D2B2A',
    'on-surface': '#1D2B2A',
    primary: '#1F6F6B',
    secondary: '#B44A14',
    success: '#37722F',
    warning: '#8A6106',
    error: '#9C2438',
    info: '#1F6F6B',
  },
  variables: { 'border-color': '#1D2B2A', 'border-opacity': 0.16, 'medium-emphasis-opacity': 0.78 },
}

const dark: ThemeDefinition = {
  dark: true,
  colors: {
    background: '#14201F',
    surface: '#1B2A29',
    'on-background': '#E9E4D6',
    'on-surface': '#E9E4D6',
    primary: '#6FC3BC',
    'on-primary': '#10201F',
    secondary: '#F0905A',
    'on-secondary': '#10201F',
    success: '#8CCB82',
    warning: '#E0B45A',
    error: '#E98A9A',
    info: '#6FC3BC',
  },
  variables: { 'border-color': '#E9E4D6', 'border-opacity': 0.18, 'medium-emphasis-opacity': 0.8 },
}

const kept = localStorage.getItem('theme')
const wanted = kept ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light')

export const vuetify = createVuetify({
  theme: { defaultTheme: wanted === 'dark' ? 'dark' : 'light', themes: { light, dark } },
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  defaults: {
    VBtn: { rounded: 'md', variant: 'tonal', class: 'text-none' },
    VTextField: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VTextarea: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VSelect: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VAutocomplete: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VCombobox: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VCard: { rounded: 'md', elevation: 0, border: true },
    VTable: { density: 'comfortable' },
  },
})
