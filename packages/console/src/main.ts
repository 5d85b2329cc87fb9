import { mount } from 'svelte';
import './app.css';
import App from './App.svelte';
import { takeTokenFromAddress } from './lib/session.svelte.js';
import { applyMode } from './lib/mode.svelte.js';

takeTokenFromAddress();
applyMode();
mount(App, { target: document.getElementById('app')! });
