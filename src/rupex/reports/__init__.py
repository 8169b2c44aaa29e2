"""Run documents in the forms that people and machines read. Nothing here opens a file or asks the terminal."""
