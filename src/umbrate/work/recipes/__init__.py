"""Recipes: the settings of all stages and what is done between them, kept as a file, to run on another photo set."""
