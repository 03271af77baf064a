"""What a check found, for programs and for people: JSON, JUnit, baselines, several captures, one miss taken apart."""
