"""The scenario: the made-up Saltgrass Collective, played in through the service's own API."""
