"""The tokens of what is drawn over photos and in the scene: dark in both themes, so that colors can be judged."""

from .tokens import CATEGORIES, DARK, HEADING, NEUTRAL, SIZE, SMALL, STEP, color, draw_state, font, icon  # noqa: F401

GROUND, PANEL, RAISED, LINE = DARK["GROUND"], DARK["PANEL"], DARK["RAISED"], DARK["LINE"]
TEXT, QUIET, ACCENT, ACCENT_DARK = DARK["TEXT"], DARK["QUIET"], DARK["ACCENT"], DARK["ACCENT_DARK"]
STATE_COLORS = DARK["STATE_COLORS"]
