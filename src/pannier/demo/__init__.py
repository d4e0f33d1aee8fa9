"""The demo: the made-up archive of Fell Lane Mill, and the guided tour on it."""
