"""The public documents: their types, how they are written, what of them is made harmless. Nothing else knows their form."""
