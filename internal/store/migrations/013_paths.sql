-- Where the streams of a device that speaks RTSP alone are had, as a person named them.
alter table device add column paths text[] not null default '{}';
