"""Job bundles: a job as one file, and a job from one."""
