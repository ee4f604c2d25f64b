-- The picture of an object that its analytics sent with it, JPEG: with the piece that it came with, and dropped with it.
alter table seen add column crop bytea;
