"""Pages of the rig, a file a subject; all of them open beside the one sheet."""
