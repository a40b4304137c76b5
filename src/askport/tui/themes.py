"""Two side colours and one for conflict; a dark theme for the bench and a light one for daylight on a ladder."""

from textual.theme import Theme

DARK = Theme(
    name="askport-night",
    primary="#e8b04a",
    secondary="#57c7c0",
    background="#15181b",
    surface="#1c2024",
    panel="#252a2f",
    foreground="#dfe3e6",
    dark=True,
    variables={
        "ours": "#f0b955",
        "theirs": "#5fd0c8",
        "conflict": "#ff6b7d",
        "dim": "#8a949d",
        "footer-key-foreground": "#dfe3e6",
    },
)

LIGHT = Theme(
    name="askport-daylight",
    primary="#8a5200",
    secondary="#00625d",
    background="#ffffff",
    surface="#f3f4f2",
    panel="#e4e7e4",
    foreground="#101314",
    dark=False,
    variables={
        "ours": "#8a5200",
        "theirs": "#00625d",
        "conflict": "#b00028",
        "dim": "#59626a",
        "footer-key-foreground": "#101314",
    },
)
