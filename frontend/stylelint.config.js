// What the styles are held to: the standard rules, without those on how a rule is set out.
module.exports = {
  extends: "stylelint-config-standard",
  rules: {
    "no-descending-specificity": null,
    "declaration-block-single-line-max-declarations": null,
    "rule-empty-line-before": null,
    "custom-property-empty-line-before": null,
    "comment-empty-line-before": null,
    "selector-class-pattern": "^[a-z][a-z0-9]*(-[a-z0-9]+)*$",
  },
};
