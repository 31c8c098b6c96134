declare module 'plotly.js-cartesian-dist-min';
