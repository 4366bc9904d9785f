import { cookie } from "./shared.js";

export default () => ({
  choose(event) {
    cookie("hypotaxis-session", event.target.value);
    location.reload();
  },
});
