"""Does a package speak the exchange? Plays the server, drives whatever connects, and says what holds and what does not."""
