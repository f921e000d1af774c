<template>
  <PeopleNav />
  <section class="sheet">
    <h2>{{ t('people.add') }}</h2>
    <el-form class="row" label-position="top" @submit.prevent="handleAdd">
      <el-form-item :label="t('people.name')">
        <el-input v-model="form.name" autocomplete="off" data-test="person-name" />
      </el-form-item>
      <el-form-item :label="t('people.role')">
        <el-select v-model="form.role" data-test="person-role">
          <el-option v-for="role in roles" :key="role" :value="role" :label="t(`role.${role}`)" />
        </el-select>
      </el-form-item>
      <el-form-item :label="t('signIn.password')">
        <el-input v-model="form.password" type="password" autocomplete="new-password" data-test="person-password" />
      </el-form-item>
      <el-button native-type="submit" :disabled="!form.name || !form.password" data-test="add-person">
        {{ t('people.addDo') }}
      </el-button>
    </el-form>
    <p class="soft hint">{{ t('people.passwordRule') }} {{ t('people.roles') }}</p>
    <p v-if="failure" role="alert">{{ failure.words }} {{ failure.details.join('; ') }}</p>
  </section>
  <div v-if="people" class="sheet listing">
    <table v-folding>
      <thead>
        <tr>
          <th>{{ t('people.name') }}</th>
          <th>{{ t('people.role') }}</th>
          <th>{{ t('people.maySignIn') }}</th>
          <th>{{ t('people.passkeys') }}</th>
          <th>{{ t('people.signedIn') }}</th>
          <th><span class="hidden-text">{{ t('people.actions') }}</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="person in people" :key="person.id" data-test="person">
          <td>
            {{ person.name }}
            <span v-if="person.openid" class="soft" data-test="openid">
              {{ t('people.openID', { provider: person.openid }) }}
            </span>
          </td>
          <td>
            <span v-if="person.openid">{{ t(`role.${person.role}`) }}</span>
            <el-select
              v-else
              class="role"
              size="small"
              :model-value="person.role"
              :aria-label="t('people.roleOf', { name: person.name })"
              @change="(role: Person['role']) => change(person.id, { role })"
            >
              <el-option v-for="role in roles" :key="role" :value="role" :label="t(`role.${role}`)" />
            </el-select>
          </td>
          <td>{{ person.disabled ? t('people.no') : t('people.yes') }}</td>
          <td data-test="passkeys">{{ person.passkeys }}</td>
          <td class="nowrap">{{ moment(person.signed_in_at) }}</td>
          <td class="nowrap">
            <el-button size="small" data-test="toggle" @click="change(person.id, { disabled: !person.disabled })">
              {{ person.disabled ? t('people.enable') : t('people.disable') }}
            </el-button>
            <el-popconfirm
              v-if="person.passkeys"
              :title="t('people.surePasskeys', { name: person.name })"
              :confirm-button-text="t('people.remove')"
              :cancel-button-text="t('people.keep')"
              width="260"
              @confirm="change(person.id, { remove_passkeys: true })"
            >
              <template #reference>
                <el-button size="small" data-test="remove-passkeys">{{ t('people.removePasskeys') }}</el-button>
              </template>
            </el-popconfirm>
            <el-popconfirm
              :title="t('people.sure', { name: person.name })"
              :confirm-button-text="t('people.remove')"
              :cancel-button-text="t('people.keep')"
              width="260"
              @confirm="remove(person.id)"
            >
              <template #reference>
                <el-button size="small" data-test="remove">{{ t('people.remove') }}</el-button>
              </template>
            </el-popconfirm>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script lang="ts" setup>
import { onMounted, reactive, ref } from 'vue'
import { api, asJSON, result } from '../api/client'
import { vFolding } from '../look/folding'
import { moment, t } from '../words/t'
import PeopleNav from './PeopleNav.vue'
import type { Failure, Person, PersonChange, Result } from '../api/client'

const roles: Person['role'][] = ['viewer', 'auditor', 'administrator']
const form = reactive<{ name: string; role: Person['role']; password: string }>({
  name: '',
  role: 'viewer',
  password: '',
})
const people = ref<Person[]>()
const failure = ref<Failure>()

async function load() {
  const answer = await result(api.GET('/api/v1/people'))
  if (answer.ok) people.value = answer.value ?? []
  else failure.value = answer.failure
}
onMounted(load)

async function done(answer: Result<unknown>): Promise<boolean> {
  failure.value = answer.ok ? undefined : answer.failure
  await load()
  return answer.ok
}

async function handleAdd() {
  const body = { name: form.name.trim(), role: form.role, password: form.password }
  if (await done(await result(api.POST('/api/v1/people', { body })))) Object.assign(form, { name: '', password: '' })
}

async function change(id: number, body: PersonChange) {
  await done(await result(api.PATCH('/api/v1/people/{id}', { params: { path: { id } }, body })))
}

async function remove(id: number) {
  await done(await result(api.DELETE('/api/v1/people/{id}', { params: { path: { id } }, ...asJSON })))
}
</script>

<style scoped>
.sheet { margin-bottom: 14px; }
.row { display: flex; flex-wrap: wrap; gap: 12px 18px; align-items: end; }
.row :deep(.el-form-item) { margin-bottom: 0; width: 220px; }
.hint { margin: 8px 0 0; font-size: 12.5px; }
.role { width: 150px; }
</style>
