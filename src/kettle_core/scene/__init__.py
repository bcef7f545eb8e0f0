"""Scenes as values: layers, masks, where each is drawn."""
