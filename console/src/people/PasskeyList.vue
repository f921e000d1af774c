<template>
  <section class="sheet">
    <h2>{{ t('passkey.title') }}</h2>
    <p class="soft">{{ t('passkey.what') }}</p>
    <p v-if="failure" role="alert">{{ failure.words }} {{ failure.details.join('; ') }}</p>
    <template v-if="keys">
      <p v-if="!keys.address" data-test="passkey-nowhere">{{ t('passkey.nowhere') }}</p>
      <p v-else-if="keys.address !== origin" data-test="passkey-elsewhere">
        {{ t('passkey.elsewhere', { address: keys.address }) }}
        <a :href="`${keys.address}/account`">{{ keys.address }}/account</a>
      </p>
      <el-form v-else class="row" label-position="top" @submit.prevent="handleAdd">
        <el-form-item :label="t('passkey.name')">
          <el-input v-model="form.name" :placeholder="t('passkey.example')" maxlength="100" data-test="passkey-name" />
        </el-form-item>
        <el-form-item :label="t('account.old')">
          <el-input
            v-model="form.password"
            type="password"
            autocomplete="current-password"
            data-test="passkey-password"
          />
        </el-form-item>
        <el-button
          native-type="submit"
          :disabled="busy || !form.name.trim() || !form.password"
          data-test="add-passkey"
        >
          {{ t('passkey.add') }}
        </el-button>
      </el-form>
      <p v-if="added" role="status">{{ t('passkey.done') }}</p>
      <p v-if="!keys.items?.length" class="soft">{{ t('passkey.none') }}</p>
      <div v-else class="listing">
        <table v-folding>
          <thead>
            <tr>
              <th>{{ t('passkey.name') }}</th>
              <th>{{ t('passkey.added') }}</th>
              <th>{{ t('passkey.used') }}</th>
              <th><span class="hidden-text">{{ t('people.actions') }}</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="key in keys.items" :key="key.id" data-test="passkey">
              <td>{{ key.name }}</td>
              <td class="nowrap">{{ moment(key.created_at) }}</td>
              <td class="nowrap">{{ key.used_at ? moment(key.used_at) : t('token.never') }}</td>
              <td>
                <el-button size="small" data-test="remove-passkey" @click="handleRemove(key.id)">
                  {{ t('passkey.remove') }}
                </el-button>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </section>
</template>

<script lang="ts" setup>
import { onMounted, reactive, ref } from 'vue'
import { api, asJSON, result } from '../api/client'
import { vFolding } from '../look/folding'
import { moment, t } from '../words/t'
import { make } from './passkeys'
import type { Failure, Passkeys, Result } from '../api/client'

const origin = globalThis.location.origin
const form = reactive({ name: '', password: '' })
const keys = ref<Passkeys>()
const failure = ref<Failure>()
const busy = ref(false)
const added = ref(false)

async function load() {
  const answer = await result(api.GET('/api/v1/passkeys'))
  if (answer.ok) keys.value = answer.value
  else failure.value = answer.failure
}
onMounted(load)

async function add(): Promise<Result<unknown>> {
  const asked = await result(api.POST('/api/v1/passkeys/challenge', { body: { password: form.password } }))
  if (!asked.ok) return asked
  const made = await make(asked.value)
  if (!made.ok) return made
  const body = { name: form.name.trim(), try: asked.value.try, answer: made.value }
  return result(api.POST('/api/v1/passkeys', { body }))
}

async function handleAdd() {
  busy.value = true
  const answer = await add()
  busy.value = false
  failure.value = answer.ok ? undefined : answer.failure
  added.value = answer.ok
  if (!answer.ok) return
  Object.assign(form, { name: '', password: '' })
  await load()
}

async function handleRemove(id: number) {
  const answer = await result(api.DELETE('/api/v1/passkeys/{id}', { params: { path: { id } }, ...asJSON }))
  failure.value = answer.ok ? undefined : answer.failure
  added.value = false
  if (answer.ok) await load()
}
</script>

<style scoped>
.row { display: flex; flex-wrap: wrap; gap: 12px 18px; align-items: end; margin-bottom: 12px; }
.row :deep(.el-form-item) { margin-bottom: 0; width: 240px; }
</style>
