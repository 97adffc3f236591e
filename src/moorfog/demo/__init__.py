"""The invented boatyard and grain store: people, kit and past visits, walked by the same operations as real ones."""
