"""One seed while it trains: what is recorded, shown, saved, and how it ends."""
