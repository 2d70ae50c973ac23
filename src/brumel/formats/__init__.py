"""Reading and writing open files."""
