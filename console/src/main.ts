import { createPinia } from 'pinia'
import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router'
import 'element-plus/theme-chalk/dark/css-vars.css'
import './look/theme.css'

createApp(App).use(createPinia()).use(router).mount('#app')
