import { createRouter, createWebHistory } from "vue-router";

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: "/", component: () => import("@/views/project/HomeView.vue") },
    {
      path: "/project/:project(\\d+)",
      component: () => import("@/views/project/ProjectFrame.vue"),
      children: [
        { path: "", redirect: (to) => `${to.path.replace(/\/$/, "")}/collect` },
        { path: "collect", component: () => import("@/views/pictures/CollectView.vue") },
        { path: "collect/clips", component: () => import("@/views/clips/ClipsView.vue") },
        { path: "collect/clips/:clip(\\d+)", component: () => import("@/views/clips/ClipView.vue") },
        { path: "collect/classes", component: () => import("@/views/labels/ClassesView.vue") },
        { path: "collect/figures", component: () => import("@/views/audit/FiguresView.vue") },
        { path: "collect/audit", component: () => import("@/views/audit/AuditView.vue") },
        { path: "collect/snapshots", component: () => import("@/views/snapshots/SnapshotsView.vue") },
        { path: "collect/changes", component: () => import("@/views/labels/ChangesView.vue") },
        { path: "collect/:picture(\\d+)", component: () => import("@/views/labels/LabelView.vue") },
        { path: "train", component: () => import("@/views/train/ahead/TrainView.vue") },
        { path: "train/runs", component: () => import("@/views/train/RunsView.vue") },
        { path: "train/study", component: () => import("@/views/train/StudyView.vue") },
        { path: "train/:run(\\d+)", component: () => import("@/views/train/run/RunView.vue") },
        { path: "judge", component: () => import("@/views/judge/JudgeView.vue") },
        { path: "judge/beside", component: () => import("@/views/judge/BesideView.vue") },
        { path: "judge/anatomy", component: () => import("@/views/anatomy/AnatomyView.vue") },
        { path: "judge/combine", component: () => import("@/views/models/CombineView.vue") },
        { path: "judge/:evaluation(\\d+)", component: () => import("@/views/judge/figures/EvaluationView.vue") },
        {
          path: "judge/:evaluation(\\d+)/:picture(\\d+)",
          component: () => import("@/views/judge/wall/CompareView.vue"),
        },
        { path: "use", component: () => import("@/views/use/UseView.vue") },
        { path: "use/live", component: () => import("@/views/use/live/LiveView.vue") },
        { path: "use/addresses", component: () => import("@/views/use/addresses/AddressesView.vue") },
        { path: "use/:detection(\\d+)", component: () => import("@/views/use/DetectionView.vue") },
      ],
    },
    { path: "/:rest(.*)*", redirect: "/" },
  ],
});
