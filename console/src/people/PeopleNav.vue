<template>
  <div class="tools">
    <h1>{{ t('people.title') }}</h1>
    <nav class="filters" :aria-label="t('people.title')">
      <router-link :to="{ name: 'account' }">{{ t('account.title') }}</router-link>
      <template v-if="session.may('administrator')">
        <router-link :to="{ name: 'people' }">{{ t('people.people') }}</router-link>
        <router-link :to="{ name: 'activity' }">{{ t('activity.title') }}</router-link>
      </template>
    </nav>
  </div>
</template>

<script lang="ts" setup>
import { t } from '../words/t'
import { useSession } from './session'

const session = useSession()
</script>

<style scoped>
nav a { padding: 3px 4px; text-decoration: none; border-bottom: 2px solid transparent; margin-right: 10px; }
nav a.router-link-active { border-bottom-color: currentColor; font-weight: 600; }
</style>
