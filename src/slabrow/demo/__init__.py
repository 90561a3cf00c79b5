"""The demo's story: a federation of beekeeping cooperatives. Everything in it is made up, from a fixed seed."""
