"""What is measured of rendered loops: loudness, spectra, clashes, room in the spectrum."""
