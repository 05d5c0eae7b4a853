"""One file for each verb."""
