"""The background of the desk: carries out orders, takes sightings, raises rollouts, sends mail."""
