"""What is a secret, and texts of which only the values on a list stay: for snapshots, documents and messages."""
