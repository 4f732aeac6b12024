<script setup lang="ts">
/** Objects that were changed here and elsewhere: the person says whose version stays. */
import { count } from "@/parts/format";
import { useProject } from "@/state/project";
import type { Clash } from "@/views/clips/editing/tracks";
import type { Track } from "@/views/clips/editing/trajectory";

defineProps<{ conflict: readonly Clash[] }>();
const emit = defineEmits<{ settle: [which: "mine" | "theirs"] }>();
const store = useProject();

function told(track: Track | null): string {
  if (!track) return "deleted";
  const seen = track.spans.map(([first, last]) => `${first}–${last}`).join(", ");
  return `in sight ${seen}, ${count(track.sets.length, "set box", "set boxes")}`;
}
const name = ({ mine, theirs, number }: Clash): string =>
  `${store.classById.get((mine ?? theirs)?.class_id ?? 0)?.name ?? "Object"} ${number}`;
</script>

<template>
  <el-dialog
    :model-value="conflict.length > 0"
    title="Objects were changed elsewhere"
    width="640"
    :show-close="false"
    :close-on-click-modal="false"
    :close-on-press-escape="false">
    <table class="figures" data-test="track-conflict">
      <thead>
        <tr>
          <th>Object</th>
          <th>Saved meanwhile</th>
          <th>Here</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="each in conflict" :key="each.number">
          <td>{{ name(each) }}</td>
          <td>{{ told(each.theirs) }}</td>
          <td>{{ told(each.mine) }}</td>
        </tr>
      </tbody>
    </table>
    <template #footer>
      <el-button data-test="take-theirs" @click="emit('settle', 'theirs')">Keep the saved ones</el-button>
      <el-button type="primary" data-test="keep-mine" @click="emit('settle', 'mine')">Keep the ones here</el-button>
    </template>
  </el-dialog>
</template>
