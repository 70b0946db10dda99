"""Reading G-code: its words (`tokens`), what a whole file says (`analysis`), its layers, edits and pictures.

What needs the compiled kernel (`analysis`, `layers`, `editing`, `drawing`) is imported where it is used, because the
import takes half a second."""
