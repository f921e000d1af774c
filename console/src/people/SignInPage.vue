<template>
  <section class="sheet door">
    <h1>{{ t('signIn.title') }}</h1>
    <p v-if="session.setUpNeeded" data-test="set-up-needed">{{ t('signIn.setUp') }}</p>
    <el-form label-position="top" @submit.prevent="handleSignIn">
      <el-form-item :label="t('people.name')">
        <el-input v-model="form.name" name="username" autocomplete="username" autofocus data-test="name" />
      </el-form-item>
      <el-form-item :label="t('signIn.password')">
        <el-input
          v-model="form.password"
          type="password"
          name="password"
          autocomplete="current-password"
          data-test="password"
        />
      </el-form-item>
      <p v-if="failure" role="alert" class="failure">{{ failure.words }}</p>
      <el-button
        type="primary"
        native-type="submit"
        :disabled="busy || !form.name || !form.password"
        data-test="sign-in"
      >
        {{ t('signIn.do') }}
      </el-button>
    </el-form>
    <p v-if="session.openID" class="other">
      <a :href="elsewhere" class="el-button" data-test="openid">{{ t('signIn.openID', { name: session.openID }) }}</a>
    </p>
  </section>
</template>

<script lang="ts" setup>
import { computed, reactive, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { t } from '../words/t'
import { useSession } from './session'
import type { Failure } from '../api/client'

const session = useSession()
const route = useRoute()
const router = useRouter()
const form = reactive({ name: '', password: '' })
const failure = ref<Failure>()
const busy = ref(false)

const to = computed(() => String(route.query.to ?? '/'))
// A link and no call: the browser leaves for the provider, and comes back signed in.
const elsewhere = computed(() => `/api/v1/session/openid?to=${encodeURIComponent(to.value)}`)

async function handleSignIn() {
  busy.value = true
  failure.value = await session.signIn(form.name, form.password)
  busy.value = false
  if (failure.value) return
  // Only a path of this console: never an address that somebody put into a link.
  await router.replace(/^\/(?![/\\])/.test(to.value) ? to.value : '/')
}
</script>

<style scoped>
.door { max-width: 420px; margin: 48px auto; }
.door h1 { margin-bottom: 12px; }
.other { margin-top: 16px; }
.other a { text-decoration: none; }
.failure { color: var(--faulty); font-weight: 600; }
</style>
