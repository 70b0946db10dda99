"""Reading G-code: its words (`words`), what a whole file says (`analysis`), its layers, edits and pictures.

What needs the compiled kernel (`analysis`, `layers`, `editing`, `drawing`) is imported where it is used, for that takes
half a second.
"""
