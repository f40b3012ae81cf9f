<script setup lang="ts">
import { computed } from 'vue'

import type { Facts } from '../api'
import { size } from '../telling'
import Moment from './Moment.vue'

/** What a package says of itself. */
const props = defineProps<{ facts: Facts }>()
const WORDS = new Map([[true, 'holds'], [false, 'does not hold'], [null, 'not verified']])
const whole = computed(() => Math.max(props.facts.size_bytes, 1))
const odd = computed(() => [props.facts.debuggable && 'a debug build', props.facts.test_only && 'for tests only', props.facts.simulator && 'for a simulator'].filter(Boolean).join(', '))
const granted = computed(() => Object.entries(props.facts.implied_permissions ?? {}))
const shares = computed(() => (props.facts.contents ?? []).slice(0, 6))
</script>

<template>
  <div class="sheet">
    <dl>
      <dt>Format</dt><dd>{{ facts.format }}<template v-if="facts.split">, split {{ facts.split }}</template></dd>
      <dt>Identifier</dt><dd class="mono">{{ facts.identifier }}</dd>
      <template v-if="odd"><dt>No release build</dt><dd class="wrong">✕ {{ odd }}</dd></template>
      <dt>Platform levels</dt><dd>{{ facts.lowest_platform ?? '–' }} or newer, made for {{ facts.target_platform ?? '–' }}</dd>
      <template v-if="facts.installs?.length"><dt>Installs on</dt><dd>{{ facts.installs.map((run) => run.said).join(', ') }}</dd></template>
      <template v-if="facts.highest_platform"><dt>Offered up to</dt><dd>level {{ facts.highest_platform }}</dd></template>
      <dt>Processors</dt><dd>{{ facts.processors?.join(', ') || 'any' }}</dd>
      <template v-if="facts.device_families?.length"><dt>Devices</dt><dd>{{ facts.device_families.join(', ') }}</dd></template>
      <template v-if="facts.locales?.length"><dt>Languages</dt><dd>{{ facts.locales.join(', ') }}</dd></template>
      <dt>Signature</dt>
      <dd>
        <p v-for="signature in facts.signatures ?? []" :key="signature.scheme" :class="{ wrong: signature.verified === false }">
          {{ signature.verified === false ? '✕' : signature.verified ? '✓' : '·' }} {{ signature.scheme }} {{ WORDS.get(signature.verified ?? null) }}<template v-if="signature.trouble">: {{ signature.trouble }}</template>
          <span v-for="signer in signature.signers ?? []" :key="signer.sha256" class="soft signer" :title="signer.sha256">{{ signer.subject }} · {{ signer.sha256.slice(0, 16) }}… · to <Moment :at="signer.valid_until" /></span>
        </p>
        <span v-if="!facts.signatures?.length" class="soft">nobody signed it</span>
      </dd>
      <template v-if="facts.profile"><dt>Profile</dt><dd>{{ facts.profile.name }}, for {{ facts.profile.kind }}, of {{ facts.profile.team_name }}; ends <Moment :at="facts.profile.expires_at" /></dd></template>
      <template v-if="facts.encryption_exempt !== null && facts.encryption_exempt !== undefined"><dt>Encryption</dt><dd>{{ facts.encryption_exempt ? 'none to report' : 'to be reported' }}</dd></template>
      <dt>SHA-256</dt><dd class="mono soft">{{ facts.sha256 }}</dd>
    </dl>
    <div>
      <h3>Asks for</h3>
      <ul v-if="facts.permissions?.length" class="plain-list asks">
        <li v-for="name in facts.permissions" :key="name"><span class="mono">{{ name }}</span><span v-if="facts.permission_limits?.[name]" class="soft"> up to level {{ facts.permission_limits[name] }}</span><span v-if="facts.reasons?.[name]" class="soft reason">“{{ facts.reasons[name] }}”</span></li>
      </ul>
      <p v-else class="soft">nothing</p>
      <template v-if="granted.length">
        <h3>Is granted without asking</h3>
        <ul class="plain-list asks">
          <li v-for="[name, why] in granted" :key="name"><span class="mono">{{ name }}</span><span class="soft reason">{{ why }}</span></li>
        </ul>
      </template>
      <template v-if="shares.length">
        <h3>What takes up its {{ size(facts.size_bytes) }}</h3>
        <ul class="plain-list shares">
          <li v-for="share in shares" :key="share.name"><span class="mono name" :title="share.name">{{ share.name }}</span><span class="bar"><span :style="{ width: `${(100 * share.size_bytes) / whole}%` }" /></span><span>{{ size(share.size_bytes) }}</span></li>
        </ul>
      </template>
      <p v-for="remark in facts.remarks ?? []" :key="remark" class="soft">· {{ remark }}</p>
    </div>
  </div>
</template>

<style scoped>
.sheet { display: grid; gap: 1rem 2rem; grid-template-columns: repeat(auto-fit, minmax(min(100%, 24rem), 1fr)); }
dl { display: grid; grid-template-columns: auto 1fr; gap: 0.2rem 0.9rem; margin: 0; align-content: start; font-size: 0.92rem; }
dt { color: var(--soft); font-weight: 400; }
dd { margin: 0; overflow-wrap: anywhere; }
dd p { margin: 0; }
.signer { display: block; font-size: 0.85rem; }
.wrong { color: var(--alarm); font-weight: 600; }
h3 { margin: 0 0 0.3rem; }
.asks { margin-bottom: 0.9rem; font-size: 0.88rem; overflow-wrap: anywhere; }
.reason { display: block; padding-left: 0.9rem; }
.shares li { display: grid; grid-template-columns: minmax(7rem, 14rem) 1fr 5rem; gap: 0.6rem; align-items: center; font-size: 0.88rem; }
.shares .name { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.shares li > :last-child { text-align: right; }
.bar { background: var(--line); height: 0.5rem; border-radius: 0.25rem; overflow: hidden; }
.bar span { display: block; background: var(--water-deep); height: 100%; }
</style>
