<template>
  <a class="skip" href="#contents">{{ t('app.skip') }}</a>
  <header class="bar">
    <router-link class="brand" :to="{ name: 'estate' }">
      <img src="/mark.svg" alt="" width="22" height="22" />
      {{ t('app.name') }}
    </router-link>
    <button
      v-if="session.who"
      type="button"
      class="menu"
      aria-controls="pages"
      :aria-expanded="unfolded"
      data-test="menu"
      @click="unfolded = !unfolded"
    >
      {{ t('app.menu') }}
    </button>
    <nav v-if="session.who" id="pages" :class="{ unfolded }" :aria-label="t('app.pages')" @click="unfolded = false">
      <router-link :to="{ name: 'estate' }">{{ t('app.estate') }}</router-link>
      <router-link :to="{ name: 'findings' }">{{ t('findings.title') }}</router-link>
      <router-link :to="{ name: 'holdings' }">{{ t('app.holdings') }}</router-link>
      <router-link :to="{ name: 'audits' }">{{ t('audits.title') }}</router-link>
      <router-link :to="{ name: 'expiry' }">{{ t('app.expiry') }}</router-link>
      <router-link :to="{ name: 'policies' }">{{ t('app.policies') }}</router-link>
      <router-link :to="{ name: 'what-ifs' }">{{ t('app.whatIf') }}</router-link>
      <router-link :to="{ name: 'workbench' }">{{ t('app.workbench') }}</router-link>
    </nav>
    <AuditBar v-if="session.who" class="audit" />
    <span v-else class="audit" />
    <router-link v-if="session.who" class="person" :to="{ name: 'account' }" data-test="account">{{
      session.who.name
    }}</router-link>
    <button type="button" class="look" @click="next">{{ t('look.change', { look: t(`look.${look}`) }) }}</button>
  </header>
  <main id="contents" tabindex="-1">
    <router-view />
  </main>
</template>

<script lang="ts" setup>
import { ref } from 'vue'
import AuditBar from './audits/AuditBar.vue'
import { useLook } from './look/use-look'
import { useSession } from './people/session'
import { t } from './words/t'

const session = useSession()
const unfolded = ref(false) // the pages, where there is no room for them in the bar

const { look, next } = useLook()
</script>

<style scoped>
.bar {
  display: flex; align-items: center; gap: 24px; padding: 8px 20px; background: var(--deep);
  color: var(--deep-ink);
}
.brand {
  display: inline-flex; align-items: center; gap: 8px; color: inherit; text-decoration: none;
  font-weight: 650; font-size: 16px;
}
nav { display: flex; gap: 14px; }
nav a { color: inherit; text-decoration: none; padding: 3px 2px; border-bottom: 2px solid transparent; }
nav a:hover, nav a.router-link-active { border-bottom-color: currentColor; }
.person { color: inherit; text-decoration: none; white-space: nowrap; }
.person:hover { text-decoration: underline; }
.audit { flex: 1; min-width: 0; }
.look, .menu {
  background: none; border: 1px solid transparent; color: inherit; font: inherit; padding: 3px 8px;
  border-radius: 3px; cursor: pointer;
}
.look:hover { border-color: currentColor; }
.bar :focus-visible { outline-color: var(--deep-ink); }
main { max-width: 1240px; margin: 0 auto; padding: 16px 20px 48px; }
main:focus { outline: none; }
.menu { display: none; }
@media (max-width: 900px) {
  .bar { flex-wrap: wrap; gap: 6px 14px; padding: 8px 12px; }
  .menu { display: block; border-color: currentColor; margin-left: auto; }
  nav { display: none; order: 1; width: 100%; grid-template-columns: 1fr 1fr; gap: 2px 14px; }
  nav.unfolded { display: grid; }
  nav a { padding: 8px 2px; }
  .look { display: none; order: 1; }
  nav.unfolded ~ .look { display: block; }
  .audit { order: 2; flex-basis: 100%; }
  main { padding: 12px 12px 40px; }
}
.skip { position: absolute; left: -999px; }
.skip:focus { left: 8px; top: 8px; background: var(--sheet); padding: 6px 10px; z-index: 10; }
</style>
