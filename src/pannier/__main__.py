"""`python -m pannier` is the command `pannier`."""

from pannier.cli import main

main()
