"""Watching a folder while somebody shoots: photos come in as they are whole, are judged, placed; the next is named."""
