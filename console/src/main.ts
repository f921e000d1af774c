import { createPinia } from 'pinia'
import { createApp } from 'vue'
import { unknown } from './api/client'
import App from './App.vue'
import { useSession } from './people/session'
import { router } from './router'
import 'element-plus/theme-chalk/dark/css-vars.css'
import './look/theme.css'

createApp(App).use(createPinia()).use(router).mount('#app')

unknown.caller = () => {
  const session = useSession()
  if (!session.who) return // it is known that nobody is signed in
  session.forget()
  void router.push({ name: 'sign-in', query: { to: router.currentRoute.value.fullPath } })
}
