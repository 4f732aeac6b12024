<script setup lang="ts">
/** Keys of an address: made and told once, revoked, and made good again. */
import { ref } from "vue";

import { api, type Address, take } from "@/api/client";
import { day, whole } from "@/parts/format";
import { complain, say, sayWithUndo } from "@/state/notes";

const props = defineProps<{ address: Address }>();
const emit = defineEmits<{ changed: []; made: [key: string] }>();
const name = ref("");
const rate = ref(600);
const told = ref("");

async function make(): Promise<void> {
  if (!name.value.trim()) return;
  try {
    const params = { path: { address_id: props.address.id } };
    const body = { name: name.value, per_minute: rate.value };
    const made = await take(api.POST("/api/v1/addresses/{address_id}/keys", { params, body }));
    [told.value, name.value] = [made.key, ""];
    emit("made", made.key);
    emit("changed");
  } catch (error) {
    complain(error);
  }
}
async function revoke(id: number, label: string, revoked: boolean): Promise<void> {
  try {
    const params = { path: { address_id: props.address.id, key_id: id } };
    await take(api.PATCH("/api/v1/addresses/{address_id}/keys/{key_id}", { params, body: { revoked } }));
    emit("changed");
    if (revoked) sayWithUndo(`The key of ${label} is revoked`, () => revoke(id, label, false));
    else say(`The key of ${label} is good again`);
  } catch (error) {
    complain(error);
  }
}
async function copy(): Promise<void> {
  try {
    await navigator.clipboard.writeText(told.value);
    say("Copied");
  } catch {
    complain(new Error("This browser does not let the page copy; select the key and copy it"));
  }
}
</script>

<template>
  <section>
    <h3>Keys</h3>
    <table v-if="address.keys.length" class="figures">
      <tbody>
        <tr v-for="each in address.keys" :key="each.id" :class="{ off: each.revoked_at }" data-test="key-row">
          <td>{{ each.name }}</td>
          <td>
            <code>{{ each.start }}…</code>
          </td>
          <td class="soft">{{ whole(each.per_minute) }} a minute</td>
          <td class="soft">{{ each.revoked_at ? `revoked ${day(each.revoked_at)}` : "" }}</td>
          <td class="number">
            <el-button
              v-if="!each.revoked_at"
              link
              type="primary"
              size="small"
              data-test="revoke-key"
              @click="revoke(each.id, each.name, true)"
              >Revoke</el-button
            >
          </td>
        </tr>
      </tbody>
    </table>
    <form class="line" novalidate @submit.prevent="make">
      <el-input
        v-model="name"
        size="small"
        placeholder="Program that will use it"
        aria-label="Name of the key"
        data-test="key-name" />
      <el-input-number
        v-model="rate"
        size="small"
        :min="1"
        :max="1000000"
        :controls="false"
        aria-label="Calls a minute"
        class="rate" />
      <span class="soft">a minute</span>
      <el-button size="small" native-type="submit" :disabled="!name.trim()" data-test="make-key">New key</el-button>
    </form>
    <div v-if="told" class="told" data-test="key-told">
      <code>{{ told }}</code>
      <el-button size="small" @click="copy">Copy</el-button>
      <p class="soft">Shown this once: only a digest of it is kept.</p>
    </div>
  </section>
</template>

<style scoped>
section {
  display: grid;
  gap: 8px;
  margin-bottom: 20px;
}
.line {
  display: flex;
  gap: 8px;
  align-items: center;
}
.rate {
  width: 90px;
  flex: none;
}
.line .soft {
  white-space: nowrap;
}
.off td {
  color: var(--ink-soft);
  text-decoration: line-through;
}
.told {
  border-left: 3px solid var(--reed);
  padding: 6px 10px;
  background: var(--paper-deep);
  overflow-wrap: anywhere;
}
</style>
