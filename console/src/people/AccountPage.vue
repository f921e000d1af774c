<template>
  <PeopleNav />
  <section v-if="session.who" class="sheet">
    <p>
      {{ t('account.who', { name: session.who.name, role: t(`role.${session.who.role}`) }) }}
      <template v-if="session.who.through === 'demo'">{{ t('account.demo') }}</template>
      <template v-else-if="session.who.ends_at">{{ t('account.ends',
        { when: moment(session.who.ends_at) }) }}</template>
    </p>
    <p>
      <el-button v-if="session.who.through !== 'demo'" data-test="sign-out" @click="handleSignOut(false)">
        {{ t('account.signOut') }}
      </el-button>
      <el-button v-if="session.who.through !== 'demo'" data-test="sign-out-all" @click="handleSignOut(true)">
        {{ t('account.signOutAll') }}
      </el-button>
      <router-link v-else :to="{ name: 'sign-in' }">{{ t('account.asOther') }}</router-link>
    </p>
    <p v-if="failure" role="alert">{{ failure.words }} {{ failure.details.join('; ') }}</p>
  </section>
  <section v-if="session.who?.through === 'session'" class="sheet">
    <h2>{{ t('account.password') }}</h2>
    <el-form class="row" label-position="top" @submit.prevent="handlePassword">
      <el-form-item :label="t('account.old')">
        <el-input v-model="form.old" type="password" autocomplete="current-password" data-test="old" />
      </el-form-item>
      <el-form-item :label="t('account.new')">
        <el-input v-model="form.fresh" type="password" autocomplete="new-password" data-test="new" />
      </el-form-item>
      <el-form-item :label="t('people.again')">
        <el-input v-model="form.again" type="password" autocomplete="new-password" data-test="again" />
      </el-form-item>
      <el-button
        native-type="submit"
        :disabled="!form.old || !form.fresh || form.fresh !== form.again"
        data-test="change-password"
      >
        {{ t('account.change') }}
      </el-button>
    </el-form>
    <p v-if="changed" role="status">{{ t('account.changed') }}</p>
  </section>
  <PasskeyList v-if="session.who?.through === 'session'" />
  <TokenList />
</template>

<script lang="ts" setup>
import { reactive, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, result } from '../api/client'
import { moment, t } from '../words/t'
import PasskeyList from './PasskeyList.vue'
import PeopleNav from './PeopleNav.vue'
import TokenList from './TokenList.vue'
import { useSession } from './session'
import type { Failure } from '../api/client'

const session = useSession()
const router = useRouter()
const form = reactive({ old: '', fresh: '', again: '' })
const failure = ref<Failure>()
const changed = ref(false)

async function handleSignOut(everywhere: boolean) {
  failure.value = await session.signOut(everywhere)
  if (!failure.value) await router.push({ name: 'sign-in' })
}

async function handlePassword() {
  const answer = await result(api.PUT('/api/v1/session/password', { body: { old: form.old, new: form.fresh } }))
  failure.value = answer.ok ? undefined : answer.failure
  changed.value = answer.ok
  if (answer.ok) Object.assign(form, { old: '', fresh: '', again: '' })
}
</script>

<style scoped>
.sheet { margin-bottom: 14px; }
.row { display: flex; flex-wrap: wrap; gap: 12px 18px; align-items: end; }
.row :deep(.el-form-item) { margin-bottom: 0; width: 240px; }
</style>
