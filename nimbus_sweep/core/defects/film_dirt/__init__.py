"""Specks and hairs of film, in one frame or two."""
