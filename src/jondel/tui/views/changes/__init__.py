"""Changes: what a step wrote, or what was written since the last one."""
