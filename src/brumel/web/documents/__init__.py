"""The documents of the practice: what each is made of, how it is issued, and the letterhead."""
