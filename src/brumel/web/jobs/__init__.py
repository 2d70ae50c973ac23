"""Jobs: long work asked for on a page, watched, stopped, tried again, fetched."""
