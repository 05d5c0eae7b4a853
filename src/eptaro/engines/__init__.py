"""Engines that fold rows: on this machine, on a cluster, or inside a database."""
