"""`python -m pannier` is the command `pannier`."""

from pannier.cli.entry import main

main()
