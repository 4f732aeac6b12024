<script setup lang="ts">
/** Addresses: names under which models answer other programs. */
import { computed, onMounted, ref } from "vue";

import { api, type Address, type Ensemble, type Run, take } from "@/api/client";
import { count } from "@/parts/format";
import { useKeys } from "@/state/keys";
import { complain, sayWithUndo, wordsOf } from "@/state/notes";
import { useProject } from "@/state/project";
import AddressCalls from "@/views/use/addresses/AddressCalls.vue";
import AddressKept from "@/views/use/addresses/AddressKept.vue";
import AddressKeys from "@/views/use/addresses/AddressKeys.vue";
import AddressModels from "@/views/use/addresses/AddressModels.vue";
import AddressTry from "@/views/use/addresses/AddressTry.vue";
import ModelSelect from "@/views/use/ModelSelect.vue";
import { numbersOf } from "@/views/use/models";
import SideList from "@/views/use/SideList.vue";
import UseHead from "@/views/use/UseHead.vue";

const store = useProject();
const addresses = ref<Address[]>([]);
const binned = ref<Address[]>([]);
const runs = ref<Run[]>([]);
const ensembles = ref<Ensemble[]>([]);
const chosen = ref(0);
const loaded = ref(false);
const failed = ref("");
const making = ref(false);
const name = ref("");
const model = ref("");
/** Keys that were made in this sitting, to be tried at once. */
const fresh = ref<Record<number, string>>({});

const usable = computed(() => runs.value.filter((run) => run.has_model));
const shown = computed(() => addresses.value.find((each) => each.id === chosen.value));
const listed = computed(() =>
  addresses.value.map((each) => ({
    id: each.id,
    name: each.name,
    about: `${each.models.at(-1)?.name}, ${count(each.calls_today, "call")} today`,
  })),
);
const url = computed(() => `${location.origin}/api/v1/addresses/${shown.value?.name ?? ""}`);

async function load(): Promise<void> {
  try {
    const path = { project_id: store.id };
    const [here, away, all, combined] = await Promise.all([
      take(api.GET("/api/v1/projects/{project_id}/addresses", { params: { path } })),
      take(api.GET("/api/v1/projects/{project_id}/addresses", { params: { path, query: { binned: true } } })),
      take(api.GET("/api/v1/projects/{project_id}/runs", { params: { path } })),
      take(api.GET("/api/v1/projects/{project_id}/ensembles", { params: { path } })),
    ]);
    [addresses.value, binned.value, runs.value] = [here.addresses, away.addresses, all.runs];
    ensembles.value = combined.ensembles;
    if (!shown.value) chosen.value = addresses.value[0]?.id ?? 0;
    model.value ||= usable.value[0] ? `run ${usable.value[0].id}` : "";
    [loaded.value, failed.value] = [true, ""];
  } catch (error) {
    failed.value = wordsOf(error);
  }
}
async function create(): Promise<void> {
  try {
    const made = await take(
      api.POST("/api/v1/projects/{project_id}/addresses", {
        params: { path: { project_id: store.id } },
        body: { name: name.value.trim(), ...numbersOf(model.value) },
      }),
    );
    [making.value, name.value, chosen.value] = [false, "", made.id];
    await load();
  } catch (error) {
    complain(error);
  }
}
async function bin(address: Address, away: boolean): Promise<void> {
  try {
    const params = { path: { address_id: address.id } };
    await take(api.POST("/api/v1/addresses/{address_id}/bin", { params, body: { binned: away } }));
    if (away) sayWithUndo(`${address.name} moved to the bin; it answers nobody now`, () => bin(address, false));
    chosen.value = away ? 0 : address.id;
    await load();
  } catch (error) {
    complain(error);
  }
}
onMounted(load);
useKeys([{ keys: ["n"], label: "New address", run: () => (making.value = true) }]);
</script>

<template>
  <div class="view">
    <UseHead
      ><el-button
        v-if="loaded && usable.length"
        v-hint="'New address'"
        type="primary"
        data-test="new-address"
        @click="making = true"
        >New address</el-button
      ></UseHead
    >
    <p v-if="failed" class="notice bad">
      {{ failed }} <el-button link type="primary" @click="load">Try again</el-button>
    </p>
    <div v-else-if="loaded && !usable.length && !addresses.length" class="empty">
      <h2>No model to answer yet</h2>
      <p class="soft">A run can answer under an address as soon as its first validation is through.</p>
      <router-link :to="`/project/${store.id}/train`"
        ><el-button type="primary" tag="span">To Train</el-button></router-link
      >
    </div>
    <div v-else-if="loaded && !addresses.length" class="empty">
      <h2>No address yet</h2>
      <p class="soft">
        Under an address a model answers other programs over HTTP: they send a picture with a key and get its boxes.
      </p>
      <el-button type="primary" @click="making = true">New address</el-button>
    </div>
    <div v-else-if="loaded" class="body">
      <SideList v-model="chosen" :items="listed" label="Addresses" one="address" test="address-row" />
      <main v-if="shown" :key="shown.id">
        <div class="title">
          <h2>{{ shown.name }}</h2>
          <code data-test="address-url">{{ url }}/detections</code>
          <span class="spread" />
          <el-button size="small" data-test="bin-address" @click="bin(shown, true)">Move to bin</el-button>
        </div>
        <div class="columns">
          <div>
            <AddressModels :address="shown" :runs="usable" :ensembles="ensembles" @changed="load" />
            <AddressKeys :address="shown" @changed="load" @made="(key) => (fresh[shown!.id] = key)" />
            <AddressKept :address="shown" @changed="load" />
            <AddressCalls :address="shown" />
          </div>
          <div>
            <AddressTry :url="url" :fresh="fresh[shown.id] ?? ''" @called="load" />
          </div>
        </div>
      </main>
    </div>
    <details v-if="binned.length" class="bin">
      <summary>Bin: {{ count(binned.length, "address", "addresses") }}</summary>
      <p v-for="each in binned" :key="each.id">
        {{ each.name }} <el-button link type="primary" size="small" @click="bin(each, false)">Restore</el-button>
      </p>
    </details>
    <el-dialog v-model="making" title="New address" width="460">
      <form class="new" novalidate @submit.prevent="create">
        <label
          >Name
          <el-input
            v-model="name"
            placeholder="cooling-belt"
            maxlength="60"
            data-test="address-name"
            aria-label="Name" />
        </label>
        <p class="soft">
          Lower-case letters, digits and hyphens. Programs call {{ url.replace(/[^/]*$/, "")
          }}{{ name || "name" }}/detections
        </p>
        <label
          >Answers with
          <ModelSelect v-model="model" :runs="usable" :ensembles="ensembles" label="Answers with" />
        </label>
      </form>
      <template #footer>
        <el-button @click="making = false">Cancel</el-button>
        <el-button type="primary" :disabled="!name.trim() || !model" data-test="create-address" @click="create"
          >Make the address</el-button
        >
      </template>
    </el-dialog>
  </div>
</template>

<style scoped>
.body {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: 190px minmax(0, 1fr);
}
main {
  overflow: auto;
  padding: 14px 24px 24px;
}
.title {
  display: flex;
  align-items: baseline;
  gap: 14px;
  margin-bottom: 10px;
}
.spread {
  flex: 1;
}
code {
  font-size: 13px;
  color: var(--ink-soft);
}
.columns {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 32px;
}
.empty {
  display: grid;
  gap: 12px;
  justify-items: center;
  padding: 90px 0;
  text-align: center;
}
.new {
  display: grid;
  gap: 12px;
}
.new label {
  display: grid;
  gap: 4px;
}
.bin {
  padding: 8px 24px;
  border-top: 1px solid var(--rule);
}
</style>
