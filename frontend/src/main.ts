import "@fontsource-variable/source-sans-3/wght.css";
import "@fontsource-variable/source-serif-4/wght.css";
import "@/style/tokens.css";
import "@/style/base.css";

import { createPinia } from "pinia";
import { createApp } from "vue";

import App from "@/App.vue";
import { focusFieldsOfDialogs } from "@/parts/dialogFocus";
import { router } from "@/router";
import { hint } from "@/state/keys";

focusFieldsOfDialogs();
createApp(App).directive("hint", hint).use(createPinia()).use(router).mount("#app");
