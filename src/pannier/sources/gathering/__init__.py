"""Gathering: pictures that a table links to, fetched politely, once each, into a folder that pack reads."""
