"""Assemblies: cut lists as files, and programs made of them."""
