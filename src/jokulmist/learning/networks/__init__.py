"""Networks: their declaration, where their weights stand, and their layers."""
