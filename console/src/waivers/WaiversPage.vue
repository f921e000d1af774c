<template>
  <h1>{{ t('waivers.title') }}</h1>
  <p class="soft">{{ t('waivers.what') }}</p>
  <p v-if="failure" class="sheet" role="alert">{{ t('failure.title') }}: {{ failure.words }}</p>
  <p v-if="waivers && !waivers.length" class="sheet">{{ t('waivers.none') }}</p>
  <div v-else-if="waivers" class="sheet listing">
    <table v-folding>
      <thead>
        <tr>
          <th>{{ t('waivers.until') }}</th>
          <th>{{ t('waivers.left') }}</th>
          <th>{{ t('waivers.code') }}</th>
          <th>{{ t('waivers.about') }}</th>
          <th>{{ t('waivers.reason') }}</th>
          <th>{{ t('waivers.by') }}</th>
          <th><span class="hidden-text">{{ t('people.actions') }}</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="waiver in waivers" :key="waiver.id" data-test="waiver">
          <td class="nowrap">{{ waiver.until }}</td>
          <td class="nowrap" :class="{ soon: waiver.days <= 14 }">{{ daysWords(waiver.days) }}</td>
          <td class="mono">{{ waiver.code }}</td>
          <td>
            <router-link v-if="waiver.endpoint_id" :to="{ name: 'endpoint', params: { id: waiver.endpoint_id } }">{{
              waiver.about
            }}</router-link>
            <router-link v-else-if="waiver.holding_id" :to="{ name: 'holding', params: { id: waiver.holding_id } }">{{
              waiver.about
            }}</router-link>
            <template v-else>{{ waiver.about || t('waivers.all') }}</template>
          </td>
          <td>{{ waiver.reason }}</td>
          <td>{{ waiver.by }}</td>
          <td>
            <el-button v-if="session.may('auditor')" size="small" data-test="remove" @click="handleRemove(waiver.id)">
              {{ t('waivers.remove') }}
            </el-button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script lang="ts" setup>
import { onMounted, ref } from 'vue'
import { api, asJSON, result } from '../api/client'
import { vFolding } from '../look/folding'
import { useSession } from '../people/session'
import { daysWords, t } from '../words/t'
import type { Failure, Waiver } from '../api/client'

const session = useSession()
const waivers = ref<Waiver[]>()
const failure = ref<Failure>()

async function load() {
  const answer = await result(api.GET('/api/v1/waivers'))
  failure.value = answer.ok ? undefined : answer.failure
  if (answer.ok) waivers.value = answer.value ?? []
}
onMounted(load)

async function handleRemove(id: number) {
  const answer = await result(api.DELETE('/api/v1/waivers/{id}', { params: { path: { id } }, ...asJSON }))
  if (answer.ok) await load()
  else failure.value = answer.failure
}
</script>

<style scoped>
.soon { font-weight: 600; color: var(--at-risk); }
</style>
