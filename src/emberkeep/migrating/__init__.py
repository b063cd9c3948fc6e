"""Migrating saves: recipes for one version step, and the chain of them that leads from one version to another."""
