create table if not exists sailings (
    from_harbour text not null,
    to_harbour   text not null,
    leaves       time not null,
    primary key (from_harbour, leaves)
);

insert into sailings values
    ('Brindle', 'Skerry Point', '06:10'),
    ('Brindle', 'Skerry Point', '09:40'),
    ('Brindle', 'Tarn Island', '12:05'),
    ('Skerry Point', 'Brindle', '07:25')
on conflict do nothing;
