import '@fontsource/ibm-plex-sans/latin-400.css'
import '@fontsource/ibm-plex-sans/latin-600.css'
import '@fontsource/ibm-plex-mono/latin-400.css'
import 'vuetify/styles'
import './style.css'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'
import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'
import App from './App.vue'
import { tip } from './lib/tip'

const paper = {
  background: '#F5F0E6',
  surface: '#FBF8F1',
  primary: '#16233B',
  secondary: '#55607A',
  error: '#B53A1F',
  warning: '#86620F',
  success: '#276D62',
  'on-background': '#16233B',
  'on-surface': '#16233B',
  signal: '#D2492A',
}
const night = {
  background: '#131C2B',
  surface: '#1B2638',
  primary: '#E9E2D2',
  secondary: '#A9B4C8',
  error: '#F08A6E',
  warning: '#D8AE55',
  success: '#6FC2B4',
  'on-background': '#E9E2D2',
  'on-surface': '#E9E2D2',
  signal: '#E0603F',
}

const vuetify = createVuetify({
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  theme: {
    defaultTheme: localStorage.getItem('night') ? 'night' : 'paper',
    themes: { paper: { colors: paper }, night: { dark: true, colors: night } },
  },
  defaults: {
    VBtn: { variant: 'text', density: 'compact', ripple: false },
    VTextField: { variant: 'outlined', density: 'compact', hideDetails: 'auto' },
    VSelect: { variant: 'outlined', density: 'compact', hideDetails: true },
    VTooltip: { openDelay: 400, location: 'bottom' },
  },
})
const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: () => import('./views/StudiesView.vue') },
    { path: '/desk/:key', component: () => import('./views/DeskView.vue') },
    { path: '/compare/:key', component: () => import('./views/CompareView.vue') },
    { path: '/runs/:key?', component: () => import('./views/RunsView.vue') },
    { path: '/hand-over/:key', component: () => import('./views/HandOverView.vue') },
    { path: '/sweep/:id', component: () => import('./views/SweepView.vue') },
    { path: '/handbook', component: () => import('./views/HandbookView.vue') },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})
createApp(App).use(createPinia()).use(vuetify).use(router).directive('tip', tip).mount('#app')
