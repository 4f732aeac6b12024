<script setup lang="ts">
import { computed, ref } from "vue";

import { layers, readable, useKeys } from "@/state/keys";

const keysShown = ref(false);
const listed = computed(() =>
  layers
    .flat()
    .filter((key) => !key.hidden)
    .map((key) => ({ label: key.label, names: key.keys.map(readable) })),
);

useKeys([{ keys: ["?"], label: "List the keys", run: () => (keysShown.value = true) }]);
</script>

<template>
  <router-view />
  <el-dialog v-model="keysShown" title="Keys" width="560" top="5vh">
    <div class="keys">
      <table class="figures" data-test="keys">
        <tbody>
          <tr v-for="key in listed" :key="key.label">
            <td>{{ key.label }}</td>
            <td class="number">
              <template v-if="key.names.length > 5"
                ><kbd>{{ key.names[0] }}</kbd> to <kbd>{{ key.names.at(-1) }}</kbd></template
              >
              <template v-for="(name, index) in key.names" v-else :key="name">
                <span v-if="index" class="soft"> or </span><kbd>{{ name }}</kbd>
              </template>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </el-dialog>
</template>

<style>
.keys {
  max-height: 74vh;
  overflow: auto;
}
.undo-button {
  margin-left: 12px;
  border: 0;
  background: none;
  color: var(--leg-deep);
  text-decoration: underline;
  cursor: pointer;
}
</style>
