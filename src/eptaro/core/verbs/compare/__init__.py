"""`compare`: each period against a prior one."""
