"""Dialogs: what opens over the screen to ask for something, and returns an answer."""
