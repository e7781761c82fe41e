-- How wide a body is was asked for by planes that marks were once taken to lie in.
ALTER TABLE practitioner DROP COLUMN half_width_cm;
