// All behaviours, registered by name. Alpine starts behind this file.
import autoSubmit from "./auto-submit.js";
import broughtIntoView from "./brought-into-view.js";
import channelRuler from "./channel-ruler.js";
import comeIn from "./come-in.js";
import copying from "./copying.js";
import dismissable from "./dismissable.js";
import finder from "./finder.js";
import fragment from "./fragment.js";
import grid from "./grid.js";
import growing from "./growing.js";
import handover from "./handover.js";
import keys from "./keys.js";
import lattice from "./lattice.js";
import matrix from "./matrix.js";
import mix from "./mix.js";
import offered from "./offered.js";
import page from "./page.js";
import pageClick from "./page-click.js";
import passSettings from "./pass-settings.js";
import plan from "./plan.js";
import poller from "./poller.js";
import printer from "./printer.js";
import proposing from "./proposing.js";
import rigSheet from "./rig-sheet.js";
import roll from "./roll.js";
import sessionChoice from "./session-choice.js";
import sheet from "./sheet.js";
import stand from "./stand.js";
import strip from "./strip.js";
import takes from "./takes.js";
import theme from "./theme.js";
import upload from "./upload.js";

const behaviours = {
  autoSubmit,
  broughtIntoView,
  channelRuler,
  comeIn,
  copying,
  dismissable,
  finder,
  fragment,
  grid,
  growing,
  handover,
  keys,
  lattice,
  matrix,
  mix,
  offered,
  page,
  pageClick,
  passSettings,
  plan,
  poller,
  printer,
  proposing,
  rigSheet,
  roll,
  sessionChoice,
  sheet,
  stand,
  strip,
  takes,
  theme,
  upload,
};

document.addEventListener("alpine:init", () => {
  for (const [name, behaviour] of Object.entries(behaviours)) Alpine.data(name, behaviour);
});
