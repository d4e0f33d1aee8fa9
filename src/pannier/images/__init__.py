"""One picture: what is in the file, its pixels, and the array a treatment makes of it."""
